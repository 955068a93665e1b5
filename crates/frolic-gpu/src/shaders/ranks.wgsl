// Places among those that are kept: the one prefix sum that stepping and culling share. Groups of 256.

const GROUP: u32 = 256u;

var<workgroup> masks: array<atomic<u32>, 8>;
var<workgroup> totals: array<u32, GROUP>;

struct Rank {
    // Kept ones before this lane, and in the whole group.
    before: u32,
    all: u32,
}

// Call it from uniform control flow.
fn rank_in_group(lane: u32, kept: bool) -> Rank {
    if lane < 8u {
        atomicStore(&masks[lane], 0u);
    }
    workgroupBarrier();
    if kept {
        atomicOr(&masks[lane / 32u], 1u << (lane % 32u));
    }
    workgroupBarrier();
    var rank = Rank(0u, 0u);
    for (var word = 0u; word < 8u; word++) {
        let mask = atomicLoad(&masks[word]);
        let ones = countOneBits(mask);
        rank.all += ones;
        if word < lane / 32u {
            rank.before += ones;
        } else if word == lane / 32u {
            rank.before += countOneBits(mask & ((1u << (lane % 32u)) - 1u));
        }
    }
    return rank;
}

// Sum of what all lanes before this one give, and of all. Call it from uniform control flow.
fn sum_in_group(lane: u32, value: u32) -> Rank {
    totals[lane] = value;
    workgroupBarrier();
    var rank = Rank(0u, 0u);
    for (var k = 0u; k < GROUP; k++) {
        if k == lane {
            rank.before = rank.all;
        }
        rank.all += totals[k];
    }
    return rank;
}

// Places among those that are kept: the prefix sums that stepping, culling and sorting share. Groups of 256; whoever takes this in has
// `blocks`, a number for each group.

var<workgroup> masks: array<atomic<u32>, 8>;
var<workgroup> totals: array<u32, GROUP>;

struct Rank {
    // Kept ones before this lane, and in the whole group.
    before: u32,
    all: u32,
}

// Call it from uniform control flow.
fn rank_in_group(lane: u32, kept: bool) -> Rank {
    // Whoever still reads what the last call left.
    workgroupBarrier();
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

// A sum that stays at the greatest number rather than wrap.
fn saturated(a: u32, b: u32) -> u32 {
    return a + min(b, 0xffffffffu - a);
}

// Sum of what all lanes before this one give, and of all. Call it from uniform control flow.
fn sum_in_group(lane: u32, value: u32) -> Rank {
    workgroupBarrier();
    totals[lane] = value;
    workgroupBarrier();
    var rank = Rank(0u, 0u);
    for (var k = 0u; k < GROUP; k++) {
        if k == lane {
            rank.before = rank.all;
        }
        rank.all = saturated(rank.all, totals[k]);
    }
    return rank;
}

// The sums of `count` blocks from `at` on before each take their places; returns the sum of all. For one group, from uniform control flow.
fn add_blocks(lane: u32, at: u32, count: u32) -> u32 {
    let each = (count + GROUP - 1u) / GROUP;
    let first = min(lane * each, count);
    let end = min(first + each, count);
    var sum = 0u;
    for (var k = first; k < end; k++) {
        sum = saturated(sum, blocks[at + k]);
    }
    let rank = sum_in_group(lane, sum);
    var before = rank.before;
    for (var k = first; k < end; k++) {
        let here = blocks[at + k];
        blocks[at + k] = before;
        before = saturated(before, here);
    }
    return rank.all;
}

// Which of all threads this is, where groups fill more than one row.
fn thread(group: vec3<u32>, groups: vec3<u32>, lane: u32) -> u32 {
    return (group.x + group.y * groups.x) * GROUP + lane;
}

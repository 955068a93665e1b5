// Prefix sums for stepping, culling and sorting, in groups of 256. Programs that include this file declare
// `blocks`, one number for each group.

var<workgroup> masks: array<atomic<u32>, 8>;
var<workgroup> totals: array<u32, GROUP>;

struct Rank {
    // Kept lanes before this one, and in the whole group.
    before: u32,
    all: u32,
}

// Requires uniform control flow.
fn rank_in_group(lane: u32, kept: bool) -> Rank {
    // Other lanes may still read the result of the last call.
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

// A saturating sum.
fn saturated(a: u32, b: u32) -> u32 {
    return a + min(b, 0xffffffffu - a);
}

// Sum of the values of all lanes before this one, and of all. Requires uniform control flow.
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

// Replaces `count` blocks from `at` by their prefix sums; returns the sum of all. For one thread group, in uniform control flow.
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

// Index of this thread, for groups in several rows.
fn thread(group: vec3<u32>, groups: vec3<u32>, lane: u32) -> u32 {
    return (group.x + group.y * groups.x) * GROUP + lane;
}

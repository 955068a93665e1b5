// A stable radix sort of a list by its keys, four bits a pass from the last (Satish, Harris and Garland, "Designing Efficient Sorting
// Algorithms for Manycore GPUs", 2009): count each tile's digits, add the counts up, write each key to its place. Eight passes, of three
// dispatches each.

@group(0) @binding(0) var<uniform> digits: SortPass;
@group(0) @binding(1) var<storage, read> calls: array<u32>;
@group(0) @binding(2) var<storage, read_write> blocks: array<u32>;
@group(0) @binding(3) var<storage, read> keys: array<u32>;
@group(0) @binding(4) var<storage, read> list: array<u32>;
@group(0) @binding(5) var<storage, read_write> sorted_keys: array<u32>;
@group(0) @binding(6) var<storage, read_write> sorted_list: array<u32>;

// Keys a thread takes, one after the other.
const RUN: u32 = 16u;

var<workgroup> in_tile: array<atomic<u32>, BINS>;
// Of every thread, digits 2 k and 2 k + 1 in one word, digit after digit.
var<workgroup> by_thread: array<u32, 2048>;
var<workgroup> stretches: array<u32, GROUP>;

fn digit(key: u32) -> u32 {
    return (key >> digits.shift) & (BINS - 1u);
}

fn tiles(count: u32) -> u32 {
    return (count + SORT_TILE - 1u) / SORT_TILE;
}

@compute @workgroup_size(256)
fn count_digits(@builtin(workgroup_id) group: vec3<u32>, @builtin(local_invocation_index) lane: u32) {
    if lane < BINS {
        atomicStore(&in_tile[lane], 0u);
    }
    workgroupBarrier();
    let count = calls[LIST_COUNT];
    for (var k = 0u; k < RUN; k++) {
        let nth = group.x * SORT_TILE + k * GROUP + lane;
        if nth < count {
            atomicAdd(&in_tile[digit(keys[nth])], 1u);
        }
    }
    workgroupBarrier();
    if lane < BINS {
        blocks[lane * tiles(count) + group.x] = atomicLoad(&in_tile[lane]);
    }
}

@compute @workgroup_size(256)
fn add_digits(@builtin(local_invocation_index) lane: u32) {
    _ = add_blocks(lane, 0u, tiles(calls[LIST_COUNT]) * BINS);
}

@compute @workgroup_size(256)
fn write_sorted(@builtin(workgroup_id) group: vec3<u32>, @builtin(local_invocation_index) lane: u32) {
    let count = calls[LIST_COUNT];
    let first = group.x * SORT_TILE + lane * RUN;
    for (var pair = 0u; pair < BINS / 2u; pair++) {
        by_thread[pair * GROUP + lane] = 0u;
    }
    for (var k = 0u; k < RUN; k++) {
        if first + k < count {
            let d = digit(keys[first + k]);
            by_thread[(d / 2u) * GROUP + lane] += 1u << ((d % 2u) * 16u);
        }
    }
    workgroupBarrier();
    // Each thread adds up eight neighbours of one pair of digits.
    let stretch = lane * 8u;
    var sum = 0u;
    for (var k = 0u; k < 8u; k++) {
        sum += by_thread[stretch + k];
    }
    stretches[lane] = sum;
    workgroupBarrier();
    // Thirty-two stretches a pair.
    var before = 0u;
    for (var k = lane / 32u * 32u; k < lane; k++) {
        before += stretches[k];
    }
    for (var k = 0u; k < 8u; k++) {
        let here = by_thread[stretch + k];
        by_thread[stretch + k] = before;
        before += here;
    }
    workgroupBarrier();
    for (var k = 0u; k < RUN; k++) {
        if first + k < count {
            let key = keys[first + k];
            let d = digit(key);
            let word = (d / 2u) * GROUP + lane;
            let low = (d % 2u) * 16u;
            let to = blocks[d * tiles(count) + group.x] + ((by_thread[word] >> low) & 0xffffu);
            by_thread[word] += 1u << low;
            sorted_keys[to] = key;
            sorted_list[to] = list[first + k];
        }
    }
}

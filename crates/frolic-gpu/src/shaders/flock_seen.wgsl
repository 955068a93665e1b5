// Copies the places of a population that a flock seeks or flees: their number, then the places.

@group(0) @binding(0) var<uniform> seen: SeenSlot;
@group(0) @binding(1) var<storage, read> seen_counters: array<u32>;
@group(0) @binding(2) var<storage, read> seen_places: array<vec4<u32>>;
@group(0) @binding(3) var<storage, read_write> others: array<vec4<u32>>;

@compute @workgroup_size(256)
fn note_seen(@builtin(local_invocation_index) lane: u32) {
    let count = min(seen_counters[seen.live], SEEN);
    let first = seen.slot * SEEN_ROWS;
    if lane == 0u {
        others[first] = vec4(count, 0u, 0u, 0u);
    }
    if lane < count {
        others[first + 1u + lane] = seen_places[lane];
    }
}

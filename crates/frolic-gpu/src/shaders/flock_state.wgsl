// Bindings of a flock's step that its parts share: flock_arrange.wgsl, flock_hunt.wgsl, flock_steer.wgsl. The state of an element is its place, its
// motion and its bearing (BEARING_ROWS). A step arranges it by cell into one buffer, and writes it back from there.

@group(0) @binding(11) var<uniform> flock: FlockStep;

// Number of elements.
fn flock_size() -> u32 {
    return atomicLoad(&counters[flock.grid.live]);
}

// Index of a column in the arranged state.
fn arranged_at(column: u32, nth: u32) -> u32 {
    return column * flock.grid.capacity + nth;
}

fn is_gap(nth: u32) -> bool {
    return nth >= flock_size();
}

// At most this length.
fn at_most(way: vec3<f32>, most: f32) -> vec3<f32> {
    let square = dot(way, way);
    return way * select(1.0, most / sqrt(square), square > most * most);
}

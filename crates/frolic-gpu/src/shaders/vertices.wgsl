// Element and vertex of an invocation.

struct Which {
    // Index among the records or columns.
    element: u32,
    // Index among the vertices of the instance.
    vertex: u32,
}

fn which(vertex: u32, instance: u32) -> Which {
    var at = Which(instance, vertex);
    if has(MERGED) {
        at = Which(vertex / draw.corners, vertex % draw.corners);
    }
    if has(LISTED) {
        at.element = listed[at.element];
    }
    return at;
}

// Corner 0..3 of a rectangle, in a strip or in two triangles of a list.
fn corner_of(vertex: u32) -> vec2<f32> {
    var nth = vertex;
    if has(MERGED) {
        nth = array(0u, 1u, 2u, 2u, 1u, 3u)[vertex];
    }
    return vec2(f32(nth & 1u), f32(nth >> 1u));
}

// A vertex that the CPU finished.
fn merged_at(element: u32, nth: u32) -> Lit {
    return read_lit(draw.merged_at + ((element - draw.first) * draw.each + nth) * VERTEX_WORDS);
}

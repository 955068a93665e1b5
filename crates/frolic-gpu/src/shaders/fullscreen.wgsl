// A triangle over the whole picture.

@vertex
fn wide(@builtin(vertex_index) vertex: u32) -> @builtin(position) vec4<f32> {
    return vec4(f32(vertex & 1u) * 4.0 - 1.0, f32(vertex >> 1u) * 4.0 - 1.0, 0.0, 1.0);
}

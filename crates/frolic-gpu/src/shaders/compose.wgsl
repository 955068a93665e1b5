// Composes multisampled passes onto the picture. Solid surfaces leave their depth for transparent ones.

@group(1) @binding(0) var drawn: texture_2d<f32>;
@group(1) @binding(1) var depths: texture_depth_multisampled_2d;

struct Composed {
    @location(0) colour: vec4<f32>,
    @location(1) nearest: vec4<f32>,
}

@fragment
fn compose(@builtin(position) at: vec4<f32>) -> @location(0) vec4<f32> {
    return textureLoad(drawn, vec2<i32>(at.xy), 0);
}

@fragment
fn compose_solid(@builtin(position) at: vec4<f32>) -> Composed {
    let pixel = vec2<i32>(at.xy);
    var near = 0.0;
    for (var s = 0; s < 4; s++) {
        near = max(near, textureLoad(depths, pixel, s));
    }
    let depth = select(FARTHEST, frame.z_offset / max(near, 1e-12), near > 0.0);
    return Composed(textureLoad(drawn, pixel, 0), vec4(depth, 0.0, 0.0, 1.0));
}

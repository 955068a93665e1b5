// Sky, ground and water, which the CPU paints once for a view; sunlight is added here, where it is not in shadow.

@group(1) @binding(0) var light: texture_2d<f32>;
@group(1) @binding(1) var sun: texture_2d<f32>;

@fragment
fn start(@builtin(position) at: vec4<f32>) -> @location(0) vec4<f32> {
    let pixel = vec2<i32>(at.xy);
    var colour = textureLoad(light, pixel, 0).xyz;
    let sunny = textureLoad(sun, pixel, 0).xyz;
    if any(sunny != vec3(0.0)) {
        let depth = textureLoad(nearest, pixel, 0).x;
        var lit = 1.0;
        if depth < FARTHEST {
            lit = sunlit(point_behind(at.xy, depth));
        }
        colour += sunny * lit;
    }
    return vec4(colour, 1.0);
}

// Depth of the solid parts, for the samples of solid surfaces.
@fragment
fn start_depth(@builtin(position) at: vec4<f32>) -> @builtin(frag_depth) f32 {
    let depth = textureLoad(nearest, vec2<i32>(at.xy), 0).x;
    if depth < FARTHEST {
        return frame.z_scale + frame.z_offset / depth;
    }
    return 0.0;
}

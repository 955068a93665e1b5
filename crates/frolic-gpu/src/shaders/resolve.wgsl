// From linear light to eight bits: bloom, exposure, tone curve, sRGB, dither: see frolic-raster/src/finish.rs.

@group(0) @binding(0) var<uniform> finish: Finish;
@group(0) @binding(1) var picture: texture_2d<f32>;
// The bloom; for a picture without backdrop, the same picture over white.
@group(0) @binding(2) var<storage, read> spread: array<vec4<f32>>;
@group(0) @binding(3) var over_white: texture_2d<f32>;

fn tone(x: vec3<f32>) -> vec3<f32> {
    return clamp(x * (1.0 + x / (WHITE * WHITE)) / (1.0 + x), vec3(0.0), vec3(1.0));
}

// IEC 61966-2-1.
fn srgb(x: vec3<f32>) -> vec3<f32> {
    return select(1.055 * pow(x, vec3(1.0 / 2.4)) - 0.055, 12.92 * x, x <= vec3(0.0031308));
}

// Interleaved gradient noise (Jimenez, 2014).
fn dither(at: vec2<f32>) -> f32 {
    return fract(fract(at.x * 0.06711056 + 0.00583715 * at.y) * 52.982918);
}

@fragment
fn resolve(@builtin(position) at: vec4<f32>) -> @location(0) vec4<f32> {
    let pixel = vec2<u32>(at.xy);
    var colour = max(textureLoad(picture, vec2<i32>(at.xy), 0).xyz, vec3(0.0));
    if finish.bloom > 0.0 {
        // Centres of blocks are at 8 k + 4, after a border of one block.
        let place = (vec2<f32>(pixel) + 0.5 + 4.0) / 8.0;
        let first = vec2<u32>(place);
        let share = place - vec2<f32>(first);
        let at_first = first.y * finish.across + first.x;
        let below = at_first + finish.across;
        let upper = mix(spread[at_first].xyz, spread[at_first + 1u].xyz, share.x);
        let lower = mix(spread[below].xyz, spread[below + 1u].xyz, share.x);
        colour += (mix(upper, lower, share.y) - colour) * finish.bloom;
    }
    let value = srgb(tone(colour * finish.exposure)) * 255.0 + dither(vec2<f32>(pixel));
    return vec4(floor(min(value, vec3(255.0))) / 255.0, 1.0);
}

// Straight alpha, from the difference between black and white. Additive light counts as opaque as it is
// bright.
@fragment
fn resolve_transparent(@builtin(position) at: vec4<f32>) -> @location(0) vec4<f32> {
    let pixel = vec2<i32>(at.xy);
    let black = max(textureLoad(picture, pixel, 0).xyz, vec3(0.0));
    let white = textureLoad(over_white, pixel, 0).xyz;
    let through = dot(white - black, vec3(1.0 / 3.0));
    let light = srgb(tone(black * finish.exposure));
    let opacity = max(clamp(1.0 - through, 0.0, 1.0), max(light.x, max(light.y, light.z)));
    let straight = select(vec3(0.0), clamp(light / max(opacity, 1e-6), vec3(0.0), vec3(1.0)), opacity > 0.0);
    return vec4(straight, opacity);
}

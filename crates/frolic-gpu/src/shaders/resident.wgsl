// Elements that live on the device: the buffers that the step writes. Group 2.

@group(2) @binding(0) var<storage, read> merged: array<f32>;
@group(2) @binding(1) var<storage, read> listed: array<u32>;
@group(2) @binding(2) var<storage, read> places: array<vec4<u32>>;
@group(2) @binding(3) var<storage, read> motions: array<vec4<u32>>;
@group(2) @binding(4) var<storage, read> ages: array<vec2<u32>>;

fn element_at(nth: u32) -> Element {
    let place = places[nth];
    let age = bitcast<vec2<f32>>(ages[nth]);
    var e: Element;
    e.at = bitcast<vec3<f32>>(place.xyz);
    e.size = bitcast<f32>(place.w);
    e.age = age.x / age.y;
    e.tint = -1.0;
    if has(BEHIND) || has(DICE) {
        let motion = motions[nth];
        e.velocity = bitcast<vec3<f32>>(motion.xyz);
        e.id = motion.w;
        if has(BEHIND) {
            e.at -= e.velocity * draw.behind;
            e.age = (age.x - draw.behind) / age.y;
        }
    }
    return e;
}

// What the step last counted.
@group(3) @binding(3) var<storage, read> book: array<u32>;

fn element_count() -> u32 {
    return book[draw.count];
}

// Sprites live on no device.
fn sprite_bits(element: u32, nth: u32) -> vec4<u32> {
    return vec4(0u);
}

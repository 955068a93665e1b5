// Elements on the device: the buffers that a step writes. Group 2.

@group(2) @binding(0) var<storage, read> merged: array<u32>;
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
    if has(LAGGING) || has(RANDOM) {
        let motion = motions[nth];
        e.velocity = bitcast<vec3<f32>>(motion.xyz);
        e.id = motion.w;
        if has(LAGGING) {
            e.at -= e.velocity * draw.lag;
            e.age = (age.x - draw.lag) / age.y;
        }
    }
    return e;
}

// Elements of a flock on the device: the buffers that flock_steer.wgsl writes. They stand along their heading. Group 2.

@group(2) @binding(0) var<storage, read> merged: array<u32>;
@group(2) @binding(1) var<storage, read> listed: array<u32>;
@group(2) @binding(2) var<storage, read> places: array<vec4<u32>>;
@group(2) @binding(3) var<storage, read> motions: array<vec4<u32>>;
@group(2) @binding(4) var<storage, read> bearings: array<vec4<f32>>;

fn element_at(nth: u32) -> Element {
    let place = places[nth];
    let motion = motions[nth];
    let bearing = bearings[nth * BEARING_ROWS];
    let more = bearings[nth * BEARING_ROWS + 1u];
    let now = bitcast<vec3<f32>>(motion.xyz);
    var e: Element;
    e.at = bitcast<vec3<f32>>(place.xyz) - now * draw.lag;
    e.size = bitcast<f32>(place.w);
    e.id = motion.w;
    e.tint = more.y;
    e.headed = true;
    e.bank = bearing.w;
    // Between steps the heading turns from one to the other.
    e.velocity = mix(now, bearing.xyz, clamp(draw.lag * draw.per_step, 0.0, 1.0));
    if draw.swing > 0.0 {
        // `wave` of frolic-draw/src/vertices.rs.
        let way = more.x - length(now) * draw.lag;
        let turns = way / max(draw.beat * draw.body_length * e.size, 1e-9);
        let strength = clamp(length(e.velocity) / draw.swim_speed, 0.15, 1.0);
        e.wave = vec4(draw.swing * draw.body_length * strength, fract(turns), draw.waves, draw.front);
        e.wave_per_length = 1.0 / max(draw.body_length, 1e-9);
    }
    return e;
}

// Uniform of a frame: viewpoints, lights, shadow map. Group 0.

@group(0) @binding(0) var<uniform> frame: Frame;
@group(0) @binding(1) var shadow_map: texture_depth_2d;
@group(0) @binding(2) var nearest: texture_2d<f32>;

// A point in the axes of a view: right, up, and depth, in metres.
fn local(eye: Eye, point: vec3<f32>) -> vec3<f32> {
    let d = point - eye.place;
    return vec3(dot(d, eye.right), dot(d, eye.up), dot(d, eye.forward));
}

fn is_level() -> bool {
    return frame.parallel != 0u;
}

// Pixels a metre at a depth.
fn scale_at(depth: f32) -> f32 {
    return select(frame.view.focal / depth, frame.view.focal, is_level());
}

fn middle() -> vec2<f32> {
    return vec2(frame.view.half_width, frame.view.half_height);
}

// Position of a local point on the screen, in pixels from the left and top edges.
fn screen(at: vec3<f32>) -> vec2<f32> {
    return middle() + vec2(at.x, -at.y) * scale_at(at.z);
}

// The clip position of a local point.
fn clip_of(at: vec3<f32>) -> vec4<f32> {
    let z = frame.z_scale * at.z + frame.z_offset;
    let xy = at.xy * frame.view.focal / middle();
    if is_level() {
        // Casters nearer to the sun than the map reaches still cast shadows.
        return vec4(xy, clamp(z, 0.0, 1.0), 1.0);
    }
    return vec4(xy, z, at.z);
}

// The clip position of a point on the screen at a depth.
fn clip_at(pixel: vec2<f32>, depth: f32) -> vec4<f32> {
    let ndc = (pixel / middle() - 1.0) * vec2(1.0, -1.0);
    let z = frame.z_scale * depth + frame.z_offset;
    if is_level() {
        return vec4(ndc, clamp(z, 0.0, 1.0), 1.0);
    }
    return vec4(ndc * depth, z, depth);
}

// Outside of the picture.
const NOWHERE: vec4<f32> = vec4(0.0, 0.0, -2.0, 1.0);

// The point behind a pixel at a depth.
fn point_behind(pixel: vec2<f32>, depth: f32) -> vec3<f32> {
    let eye = frame.view;
    let off = (pixel - middle()) / scale_at(depth);
    return eye.place + eye.forward * depth + eye.right * off.x - eye.up * off.y;
}

// Share of sunlight at a point: the mean of four texels, each compared on its own.
fn sunlit(point: vec3<f32>) -> f32 {
    if frame.has_shadows == 0u {
        return 1.0;
    }
    let at = local(frame.sun_view, point);
    let side = frame.map_side;
    let texel = vec2(at.x, -at.y) * frame.sun_view.focal + side * 0.5 - 0.5;
    if !(all(texel >= vec2(0.0)) && all(texel < vec2(side - 1.0))) {
        return 1.0;
    }
    let first = vec2<i32>(texel);
    let share = texel - vec2<f32>(first);
    let near = frame.map_scale * (at.z - frame.map_bias) + frame.map_offset;
    var lit: vec4<f32>;
    for (var k = 0; k < 4; k++) {
        let kept = textureLoad(shadow_map, first + vec2(k & 1, k >> 1u), 0);
        lit[k] = select(1.0, 0.0, kept > near);
    }
    return mix(mix(lit.x, lit.y, share.x), mix(lit.z, lit.w, share.x), share.y);
}

// Share of a soft element at a depth in front of the solid surface at a pixel.
fn soft_share(pixel: vec2<f32>, depth: f32, per_soft: f32) -> f32 {
    let solid = textureLoad(nearest, vec2<i32>(pixel), 0).x;
    return clamp((solid - depth) * per_soft, 0.0, 1.0);
}

fn unit_or_up(v: vec3<f32>) -> vec3<f32> {
    let per = inverseSqrt(dot(v, v));
    if per > 0.0 && per < 1e30 {
        return v * per;
    }
    return vec3(0.0, 1.0, 0.0);
}

// A factor on the colour of a round soft element.
fn light_on_soft(lit: f32, at: vec3<f32>) -> vec3<f32> {
    if lit == 0.0 {
        return vec3(1.0);
    }
    var received = frame.ambient + frame.sun * 0.5;
    for (var k = 0u; k < frame.lamp_count; k++) {
        let lamp = frame.lamps[k];
        let d = lamp.place - at;
        received += lamp.colour * (lamp.power / (dot(d, d) + lamp.radius_square));
    }
    return vec3(1.0 - lit) + received * lit;
}

struct Light {
    // Factors on a colour: without sunlight, and unshadowed sunlight.
    base: vec3<f32>,
    sun: vec3<f32>,
}

fn facing(cosine: f32, translucency: f32) -> f32 {
    return select(-cosine * translucency, cosine, cosine >= 0.0);
}

// Lambert, "Photometria" (1760), with the sky's light from above and the ground's from below.
fn light_on_surface(lit: f32, rim_strength: f32, translucency: f32, gloss: f32, two_sided: bool, at: vec3<f32>, towards: vec3<f32>) -> Light {
    if lit == 0.0 {
        return Light(vec3(1.0), vec3(0.0));
    }
    let view = unit_or_up(frame.camera.place - at);
    var normal = towards;
    if two_sided && dot(normal, view) < 0.0 {
        normal = -normal;
    }
    var light = mix(frame.bounce, frame.ambient, normal.y * 0.5 + 0.5);
    for (var k = 0u; k < frame.lamp_count; k++) {
        let lamp = frame.lamps[k];
        let to = lamp.place - at;
        let fall = lamp.power / (dot(to, to) + lamp.radius_square);
        light += lamp.colour * (facing(dot(normal, unit_or_up(to)), translucency) * fall);
    }
    let edge = 1.0 - min(abs(dot(normal, view)), 1.0);
    let rim = edge * edge * edge * rim_strength;
    var sun = vec3(0.0);
    if frame.has_sun != 0u {
        let to = frame.to_sun;
        var share = facing(dot(normal, to), translucency) + rim * max(-dot(view, to), 0.0);
        share += gloss * pow(max(dot(normal, unit_or_up(view + to)), 0.0), 16.0);
        sun = frame.sun * (share * lit);
    }
    return Light((light + frame.ambient * rim) * lit + (1.0 - lit), sun);
}

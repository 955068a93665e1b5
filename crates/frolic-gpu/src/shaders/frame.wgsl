// What a whole frame shares: from where it is seen, what shines, what the sun sees. Group 0.

struct Lamp {
    // Place, m; power.
    place: vec4<f32>,
    // Colour; radius squared.
    colour: vec4<f32>,
}

struct Eye {
    // Where it stands, m; pixels a radian covers (of a level view, a metre).
    place: vec4<f32>,
    // Axes; half the width and half the height of the picture, pixels; nearest depth.
    right: vec4<f32>,
    up: vec4<f32>,
    forward: vec4<f32>,
}

struct Frame {
    // Who sees: the camera, or the sun when it draws its map.
    view: Eye,
    // The camera, whoever sees.
    camera: Eye,
    // The sun, as its map was drawn; `place.w` is texels a metre.
    sun_view: Eye,
    // z of the clip space is x * depth + y; 1 for rays side by side; 1 where shadows fall.
    clip: vec4<f32>,
    // The same for the shadow map: z is x * depth + y; depth left between a surface and its shadow, m; texels a side.
    map: vec4<f32>,
    // Light from the sky; time, s.
    ambient: vec4<f32>,
    // Light from below; how many lamps.
    bounce: vec4<f32>,
    // Towards the sun; 1 where there is one.
    to_sun: vec4<f32>,
    sun: vec4<f32>,
    // Exposure, for a pass of somebody else's; most that a shadow map moves a surface off, in its z.
    extra: vec4<f32>,
    // Colour that distance fades to, and one over the distance at which two thirds are gone, 1/m.
    haze: vec4<f32>,
    lamps: array<Lamp, 16>,
}

@group(0) @binding(0) var<uniform> frame: Frame;
@group(0) @binding(1) var shadow_map: texture_depth_2d;
@group(0) @binding(2) var nearest: texture_2d<f32>;

// A point in a view's own axes: right, up, and depth, m.
fn local(eye: Eye, point: vec3<f32>) -> vec3<f32> {
    let d = point - eye.place.xyz;
    return vec3(dot(d, eye.right.xyz), dot(d, eye.up.xyz), dot(d, eye.forward.xyz));
}

fn is_level() -> bool {
    return frame.clip.z > 0.0;
}

// Pixels a metre at a depth.
fn scale_at(depth: f32) -> f32 {
    return select(frame.view.place.w / depth, frame.view.place.w, is_level());
}

fn middle() -> vec2<f32> {
    return vec2(frame.view.right.w, frame.view.up.w);
}

// Where a local point is on the screen, pixels from the left and top edge.
fn screen(at: vec3<f32>) -> vec2<f32> {
    return middle() + vec2(at.x, -at.y) * scale_at(at.z);
}

// The clip position of a local point.
fn clip_of(at: vec3<f32>) -> vec4<f32> {
    let z = frame.clip.x * at.z + frame.clip.y;
    let xy = at.xy * frame.view.place.w / middle();
    if is_level() {
        // Whatever is nearer the sun than its map reaches is still in its way.
        return vec4(xy, clamp(z, 0.0, 1.0), 1.0);
    }
    return vec4(xy, z, at.z);
}

// The clip position of a place on the screen at a depth.
fn clip_at(pixel: vec2<f32>, depth: f32) -> vec4<f32> {
    let ndc = (pixel / middle() - 1.0) * vec2(1.0, -1.0);
    let z = frame.clip.x * depth + frame.clip.y;
    if is_level() {
        return vec4(ndc, clamp(z, 0.0, 1.0), 1.0);
    }
    return vec4(ndc * depth, z, depth);
}

// Outside of every picture.
const NOWHERE: vec4<f32> = vec4(0.0, 0.0, -2.0, 1.0);

// The point behind a pixel at a depth.
fn point_behind(pixel: vec2<f32>, depth: f32) -> vec3<f32> {
    let eye = frame.view;
    let off = (pixel - middle()) / scale_at(depth);
    return eye.place.xyz + eye.forward.xyz * depth + eye.right.xyz * off.x - eye.up.xyz * off.y;
}

// Share of the sun that reaches a point: the mean of the four texels around it, each compared on its own.
fn sunlit(point: vec3<f32>) -> f32 {
    if frame.clip.w == 0.0 {
        return 1.0;
    }
    let at = local(frame.sun_view, point);
    let side = frame.map.w;
    let texel = vec2(at.x, -at.y) * frame.sun_view.place.w + side * 0.5 - 0.5;
    if !(all(texel >= vec2(0.0)) && all(texel < vec2(side - 1.0))) {
        return 1.0;
    }
    let first = vec2<i32>(texel);
    let share = texel - vec2<f32>(first);
    let near = frame.map.x * (at.z - frame.map.z) + frame.map.y;
    var lit: vec4<f32>;
    for (var k = 0; k < 4; k++) {
        let kept = textureLoad(shadow_map, first + vec2(k & 1, k >> 1u), 0);
        lit[k] = select(1.0, 0.0, kept > near);
    }
    return mix(mix(lit.x, lit.y, share.x), mix(lit.z, lit.w, share.x), share.y);
}

// How much of something at a depth is in front of what is solid at a pixel: it fades in over the soft edge.
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

// A factor on the colour of something round and soft.
fn light_on_soft(lit: f32, at: vec3<f32>) -> vec3<f32> {
    if lit == 0.0 {
        return vec3(1.0);
    }
    var received = frame.ambient.xyz + frame.sun.xyz * (0.5 * frame.to_sun.w);
    for (var k = 0u; k < u32(frame.bounce.w); k++) {
        let lamp = frame.lamps[k];
        let d = lamp.place.xyz - at;
        received += lamp.colour.xyz * (lamp.place.w / (dot(d, d) + lamp.colour.w));
    }
    return vec3(1.0 - lit) + received * lit;
}

struct Light {
    // Factors on a colour: without the sun, and the sun's if nothing is in its way.
    base: vec3<f32>,
    sun: vec3<f32>,
}

fn facing(cosine: f32, through: f32) -> f32 {
    return select(-cosine * through, cosine, cosine >= 0.0);
}

// Lambert, "Photometria" (1760), with the sky's light from above and the ground's from below.
fn light_on_surface(lit: f32, rim_strength: f32, through: f32, two_sided: bool, at: vec3<f32>, towards: vec3<f32>) -> Light {
    if lit == 0.0 {
        return Light(vec3(1.0), vec3(0.0));
    }
    let view = unit_or_up(frame.camera.place.xyz - at);
    var normal = towards;
    if two_sided && dot(normal, view) < 0.0 {
        normal = -normal;
    }
    var light = mix(frame.bounce.xyz, frame.ambient.xyz, normal.y * 0.5 + 0.5);
    for (var k = 0u; k < u32(frame.bounce.w); k++) {
        let lamp = frame.lamps[k];
        let to = lamp.place.xyz - at;
        let fall = lamp.place.w / (dot(to, to) + lamp.colour.w);
        light += lamp.colour.xyz * (facing(dot(normal, unit_or_up(to)), through) * fall);
    }
    let edge = 1.0 - min(abs(dot(normal, view)), 1.0);
    let rim = edge * edge * edge * rim_strength;
    var sun = vec3(0.0);
    if frame.to_sun.w > 0.0 {
        let to = frame.to_sun.xyz;
        let share = facing(dot(normal, to), through) + rim * max(-dot(view, to), 0.0);
        sun = frame.sun.xyz * (share * lit);
    }
    return Light((light + frame.ambient.xyz * rim) * lit + (1.0 - lit), sun);
}

// Looks, and the state of an element before its vertices. Group 1.

@group(1) @binding(0) var<uniform> draw: Draw;
@group(1) @binding(1) var<storage, read> tables: array<vec4<u32>>;
@group(1) @binding(2) var<storage, read> regions: array<u32>;
@group(1) @binding(3) var page: texture_2d<f32>;

struct Element {
    at: vec3<f32>,
    size: f32,
    // Age over life.
    age: f32,
    id: u32,
    velocity: vec3<f32>,
    // Turn and tilt, in radians; random if `turned` is false.
    turn: vec2<f32>,
    turned: bool,
    curved: bool,
    middle: vec3<f32>,
    tip: vec3<f32>,
    // Tint; random if below 0.
    tint: f32,
    // Length of a blade, in metres; 0 of other elements.
    length: f32,
    // Whether it stands along its velocity, with a bank to the right, in radians.
    headed: bool,
    bank: f32,
    // Waves along its body: swing, turns at the front, waves along the length, front.
    wave: vec4<f32>,
    wave_per_length: f32,
}

const FULL: u32 = 0u;
const COARSE: u32 = 1u;
const THINNED: u32 = 2u;

// An element before its vertices.
struct Body {
    there: bool,
    at: vec3<f32>,
    size: f32,
    age: f32,
    colour: vec3<f32>,
    opacity: f32,
    random: vec2<f32>,
    level: u32,
    // 1, or less while it vanishes; factor on the width of an element that stands for others.
    left: f32,
    wide: f32,
}

fn has(flag: u32) -> bool {
    if FLAGS == NONE {
        return (draw.flags & flag) != 0u;
    }
    return (FLAGS & flag) != 0u;
}

fn table_at(row: u32) -> vec4<f32> {
    return bitcast<vec4<f32>>(tables[row]);
}

fn gradient(at: u32, share: f32) -> vec3<f32> {
    let last = f32(draw.steps - 1u);
    return table_at(at + min(u32(clamp(share, 0.0, 1.0) * last + 0.5), draw.steps - 1u)).xyz;
}

// Factor on the colour at a share of the length from root to tip.
fn along(share: f32) -> vec3<f32> {
    if !has(ALONG) {
        return vec3(1.0);
    }
    return gradient(draw.along, share);
}

// Opacity of a surface over its background.
fn cover(opacity: f32) -> f32 {
    return select(opacity, 0.0, has(ADDITIVE));
}

fn random_of(id: u32) -> vec2<f32> {
    return unit(hash3(vec3(id, 0x51ab77d3u, 0x0bad5eedu))).xy;
}

struct Kept {
    there: bool,
    size: f32,
    level: u32,
    left: f32,
    stands_for: f32,
}

// Level of detail: frolic-draw/src/detail.rs.
fn keep(random: f32, distance: f32, pixels: f32) -> Kept {
    let coming = (distance - draw.come_from) / draw.onset;
    let there = min(min((draw.reach - distance) / draw.edge, coming), 1.0);
    let small = select(1.0, clamp(pixels / draw.thin_below, 0.02, 1.0), draw.thin_below > 0.0) * draw.density;
    let in_reach = select(1.0, (there * (1.0 + FADE) - random) / FADE, there < 1.0);
    let chosen = select(1.0, (small * (1.0 + FADE) - random) / (FADE * small), small < 1.0);
    let left = min(in_reach, chosen);
    var level = FULL;
    if small < 1.0 {
        level = THINNED;
    } else if pixels < draw.coarse_below * (0.75 + 0.5 * random) {
        level = COARSE;
    }
    return Kept(left > 0.0, min(left, 1.0) / sqrt(small), level, min(left, 1.0), 1.0 / small);
}

// Factor on the colour of an element with a tint, or a random number if the tint is below 0, at a height.
fn tint_of(tint: f32, random: f32, height: f32) -> vec3<f32> {
    var factor = vec3(1.0);
    if has(OVER_HEIGHT) {
        factor = gradient(draw.over_height, (height - draw.height_low) * draw.per_height);
    }
    if !has(TINTED) {
        return factor;
    }
    if tint < 0.0 {
        return factor * table_at(draw.tint_at + min(u32(random * f32(draw.tints)), draw.tints - 1u)).xyz;
    }
    // Between two neighbours of the list.
    let at = min(tint, 1.0) * f32(draw.tints - 1u);
    let one = table_at(draw.tint_at + u32(at)).xyz;
    return factor * mix(one, table_at(draw.tint_at + min(u32(at) + 1u, draw.tints - 1u)).xyz, fract(at));
}

fn body_of(e: Element) -> Body {
    var body: Body;
    body.there = false;
    if !(is_finite(e.at) && e.age >= 0.0 && e.age < 1.0) {
        return body;
    }
    let row = min(u32(e.age * f32(draw.ages - 1u) + 0.5), draw.ages - 1u);
    let now = table_at(draw.over_age + row * 2u);
    body.size = e.size * bitcast<f32>(tables[draw.over_age + row * 2u + 1u].x);
    if has(RANDOM) {
        body.random = random_of(e.id);
    }
    body.level = FULL;
    body.left = 1.0;
    body.wide = 1.0;
    if has(DETAIL) {
        let seen = local(frame.camera, e.at);
        let focal = frame.camera.focal;
        let kept = keep(body.random.x, length(seen), body.size * focal / max(seen.z, frame.camera.near));
        if !kept.there {
            return body;
        }
        // A blade that stands for others is wider, not longer.
        body.wide = select(kept.size, kept.left * kept.stands_for, e.length > 0.0);
        body.size *= body.wide;
        body.level = kept.level;
        body.left = kept.left;
    }
    body.colour = now.xyz * tint_of(e.tint, body.random.y, e.at.y);
    body.at = e.at;
    body.age = e.age;
    body.opacity = now.w;
    body.there = true;
    return body;
}

fn is_sized(body: Body) -> bool {
    return body.there && body.size > 0.0 && body.size < 1e9;
}

fn light_vertex(colour: vec3<f32>, at: vec3<f32>, normal: vec3<f32>) -> Light {
    if !has(LIT_BY_SCENE) {
        return Light(colour, vec3(0.0));
    }
    let light = light_on_surface(draw.lit, draw.rim, draw.translucency, draw.gloss, draw.two_sided != 0u, at, normal);
    if has(SHADOWED) {
        return Light(colour * light.base, colour * light.sun);
    }
    return Light(colour * (light.base + light.sun), vec3(0.0));
}

// Light of a ribbon or mesh vertex through the haze; `opaque` is its opacity.
fn hazed(light: Light, at: vec3<f32>, opaque: f32) -> Light {
    if draw.hazed == 0.0 {
        return light;
    }
    let x = length(at - frame.camera.place) * (frame.per_haze * draw.hazed);
    // As in frolic-draw/src/vertices.rs.
    let left = 1.0 / (1.0 + x * (1.0 + x * (x * (x / 24.0 + 1.0 / 6.0) + 0.5)));
    return Light(light.base * left + frame.haze * ((1.0 - left) * opaque), light.sun * left);
}

// Orientation of an element; random without columns for it.
// z along a velocity, y as far up as that allows, then a bank to the right.
fn along_heading(velocity: vec3<f32>, bank: f32) -> mat3x3<f32> {
    let speed = length(velocity);
    let z = select(vec3(0.0, 0.0, 1.0), velocity / speed, speed > 0.0);
    let level = vec2(z.z, -z.x);
    let flat = length(level);
    var x = vec3(1.0, 0.0, 0.0);
    if flat > 0.0 {
        x = vec3(level.x, 0.0, level.y) / flat;
    }
    let y = cross(z, x);
    return mat3x3(x * cos(bank) + y * sin(bank), y * cos(bank) - x * sin(bank), z);
}

fn turn_of(e: Element, random: vec2<f32>) -> mat3x3<f32> {
    if e.headed {
        return along_heading(e.velocity, e.bank);
    }
    var turn = vec2(random.x, 0.0);
    if e.turned {
        turn = e.turn / TAU;
    } else if draw.form != RIBBON {
        turn.y = random.y - 0.5;
    }
    let about_y = sin_cos_turn(turn.x);
    let about_x = sin_cos_turn(turn.y);
    let x = vec3(about_y.y, 0.0, -about_y.x);
    let z = vec3(about_y.x, 0.0, about_y.y);
    let up = vec3(0.0, 1.0, 0.0);
    return mat3x3(x, up * about_x.y + z * about_x.x, z * about_x.y - up * about_x.x);
}

// A sample of a region, bilinear on the nearest mip level: see frolic-draw/src/atlas.
fn look_up(region: u32, uv: vec2<f32>, texels: f32) -> vec4<f32> {
    let start = vec2(regions[region * 4u], regions[region * 4u + 1u]);
    let length = vec2(regions[region * 4u + 2u], regions[region * 4u + 3u]);
    var level = 0u;
    var size = texels;
    while size > 1.42 && level + 1u < textureNumLevels(page) {
        size *= 0.5;
        level++;
    }
    let scale = 1.0 / f32(1u << level);
    let at = (vec2<f32>(start) + uv * vec2<f32>(length)) * scale - 0.5;
    let first = vec2<i32>(start >> vec2(level));
    let last = vec2<i32>((start + length - 1u) >> vec2(level));
    let whole = floor(at);
    let share = at - whole;
    let near = clamp(vec2<i32>(whole), first, last);
    let far = clamp(vec2<i32>(whole) + 1, first, last);
    let upper = mix(textureLoad(page, near, level), textureLoad(page, vec2(far.x, near.y), level), share.x);
    let lower = mix(textureLoad(page, vec2(near.x, far.y), level), textureLoad(page, far, level), share.x);
    return mix(upper, lower, share.y);
}

fn region_size(region: u32) -> vec2<f32> {
    return vec2(f32(regions[region * 4u + 2u]), f32(regions[region * 4u + 3u]));
}

// The frames of a flipbook to show: one, the next, and the share of the next.
struct Frames {
    one: u32,
    next: u32,
    mix: f32,
}

fn frames_of(age: f32, id: u32) -> Frames {
    let count = f32(draw.sheet_count);
    var at = min(clamp(age, 0.0, 1.0) * count, count - 1.0);
    if draw.play == PLAY_CLOCK {
        at = frame.time * draw.rate + random_of(id).x * count;
        at -= floor(at / count) * count;
    } else if draw.play == PLAY_PICK {
        at = floor(min(random_of(id).y * count, count - 1.0));
    }
    let whole = max(floor(at), 0.0);
    let nth = u32(whole);
    return Frames(
        draw.sheet_first + nth % draw.sheet_count,
        draw.sheet_first + (nth + 1u) % draw.sheet_count,
        select(0.0, at - whole, draw.blend_frames != 0u),
    );
}

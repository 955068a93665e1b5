// Elements that the CPU packed, in drawing order. Group 2.

@group(2) @binding(0) var<storage, read> merged: array<u32>;
@group(2) @binding(1) var<storage, read> listed: array<u32>;
@group(2) @binding(2) var<storage, read> records: array<vec4<u32>>;

// Words that are not a number were not given.
fn is_given(word: u32) -> bool {
    return (word & 0x7f800000u) != 0x7f800000u;
}

fn given(word: u32, otherwise: f32) -> f32 {
    if is_given(word) {
        return bitcast<f32>(word);
    }
    return otherwise;
}

fn element_at(nth: u32) -> Element {
    let at = nth * draw.stride;
    let packed = read_packed(at);
    var e: Element;
    e.at = packed.at;
    e.size = packed.size;
    e.age = packed.age;
    e.id = packed.id;
    e.turn = bitcast<vec2<f32>>(packed.turn);
    e.turned = is_given(packed.turn.x);
    e.tint = -1.0;
    if draw.stride == MOTION_ROWS {
        let motion = read_motion(at + PACKED_ROWS);
        e.velocity = motion.velocity;
        e.tint = given(motion.tint, -1.0);
    } else if draw.stride == HEADING_ROWS {
        let heading = read_heading(at + PACKED_ROWS);
        e.velocity = heading.velocity;
        e.tint = given(heading.tint, -1.0);
        e.headed = true;
        e.bank = heading.bank;
        e.wave = vec4(heading.swing, heading.turns, heading.waves, heading.front);
        e.wave_per_length = heading.per_length;
    } else if draw.stride == CURVE_ROWS {
        let curve = read_curve(at + PACKED_ROWS);
        e.middle = bitcast<vec3<f32>>(curve.middle);
        e.tip = curve.tip;
        e.curved = is_given(curve.middle.x);
        e.tint = given(curve.tint, -1.0);
        e.length = given(curve.length, 0.0);
    }
    return e;
}

fn element_count() -> u32 {
    return draw.count;
}

fn sprite_at(element: u32) -> PackedSprite {
    return read_sprite(element * draw.stride);
}

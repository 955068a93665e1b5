// Elements that the processor packed, in drawing order. Group 2.

@group(2) @binding(0) var<storage, read> merged: array<f32>;
@group(2) @binding(1) var<storage, read> listed: array<u32>;
@group(2) @binding(2) var<storage, read> records: array<vec4<u32>>;

// What is no number was not given.
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
    let one = records[at];
    let two = records[at + 1u];
    var e: Element;
    e.at = bitcast<vec3<f32>>(one.xyz);
    e.size = bitcast<f32>(one.w);
    e.age = bitcast<f32>(two.x);
    e.id = two.y;
    e.turn = bitcast<vec2<f32>>(two.zw);
    e.turned = is_given(two.z);
    e.tint = -1.0;
    if draw.stride == 3u {
        let three = records[at + 2u];
        e.velocity = bitcast<vec3<f32>>(three.xyz);
        e.tint = given(three.w, -1.0);
    } else if draw.stride == 4u {
        let three = records[at + 2u];
        let four = records[at + 3u];
        e.middle = bitcast<vec3<f32>>(three.xyz);
        e.tip = bitcast<vec3<f32>>(vec3(three.w, four.xy));
        e.curved = is_given(three.x);
        e.tint = given(four.z, -1.0);
        e.length = given(four.w, 0.0);
    }
    return e;
}

fn element_count() -> u32 {
    return draw.count;
}

// Words of a sprite's record.
fn sprite_bits(element: u32, nth: u32) -> vec4<u32> {
    return records[element * draw.stride + nth];
}

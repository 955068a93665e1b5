// Elements that the processor packed, in drawing order. Group 2.

@group(2) @binding(0) var<storage, read> merged: array<f32>;
@group(2) @binding(1) var<storage, read> listed: array<u32>;
@group(2) @binding(2) var<storage, read> records: array<vec4<u32>>;

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
    // A turn that is no number was not given.
    e.turned = (two.z & 0x7f800000u) != 0x7f800000u;
    if draw.stride > 2u {
        let three = records[at + 2u];
        if draw.form == CARD {
            e.velocity = bitcast<vec3<f32>>(three.xyz);
        } else {
            let four = records[at + 3u];
            e.middle = bitcast<vec3<f32>>(three.xyz);
            e.tip = bitcast<vec3<f32>>(vec3(three.w, four.xy));
            // A curve that is no number was not given.
            e.curved = (three.x & 0x7f800000u) != 0x7f800000u;
        }
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

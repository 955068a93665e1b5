// Stretches of the trails of elements that live on the device, each a curved ribbon: frolic-draw/src/trails.rs. What carry.wgsl writes.
// Group 2.

@group(2) @binding(0) var<storage, read> merged: array<f32>;
@group(2) @binding(1) var<storage, read> listed: array<u32>;
@group(2) @binding(2) var<storage, read> trail: array<u32>;

// Share of a life after which its trail fades.
const LAST: f32 = 0.85;

fn three(at: u32) -> vec3<f32> {
    return bitcast<vec3<f32>>(vec3(trail[at], trail[at + 1u], trail[at + 2u]));
}

// Where the element that starts at a word is, then its places from the newest on.
fn point(at: u32, nth: u32) -> vec3<f32> {
    if nth == 0u {
        return three(at) - three(at + 4u) * draw.behind;
    }
    let back = min(nth - 1u, draw.stride - 1u);
    return three(at + TRAIL_HEAD + (draw.newest + draw.stride - back) % draw.stride * 3u);
}

fn element_at(stretch: u32) -> Element {
    let count = draw.stride;
    let at = stretch / count * (TRAIL_HEAD + count * 3u);
    let nth = stretch % count;
    let start = point(at, nth);
    var end = point(at, nth + 1u);
    var before = start;
    if nth > 0u {
        before = point(at, nth - 1u);
    }
    var after = end;
    if nth + 2u <= count {
        after = point(at, nth + 2u);
    }
    if nth + 1u == count {
        end = start + (end - start) * draw.trail_end;
    }
    var e: Element;
    e.at = start;
    e.id = trail[at + 7u];
    let share = f32(nth) / f32(count);
    let fade = clamp((bitcast<f32>(trail[at + 8u]) - LAST) / (1.0 - LAST), 0.0, 1.0);
    e.age = share + (1.0 - share) * fade;
    let off = end - start;
    // A newborn has not gone anywhere yet.
    if dot(off, off) > 1e-12 {
        e.size = bitcast<f32>(trail[at + 3u]);
        for (var k = 0u; k < nth; k++) {
            e.size *= draw.tip;
        }
    }
    let ahead = start + (end - before) * select(0.25, 0.5, nth == 0u);
    let behind = end - (after - start) * 0.25;
    e.curved = true;
    e.tint = -1.0;
    e.middle = (ahead + behind) * 0.5 - start;
    e.tip = off;
    return e;
}

// What the step last counted.
@group(3) @binding(3) var<storage, read> book: array<u32>;

fn element_count() -> u32 {
    return book[draw.count] * draw.stride;
}

fn sprite_bits(element: u32, nth: u32) -> vec4<u32> {
    return vec4(0u);
}

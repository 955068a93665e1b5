// Segments of trails on the device, each a curved ribbon: frolic-draw/src/trails.rs. trails.wgsl writes the buffer.
// Group 2.

@group(2) @binding(0) var<storage, read> merged: array<u32>;
@group(2) @binding(1) var<storage, read> listed: array<u32>;
@group(2) @binding(2) var<storage, read> trail: array<u32>;

fn three(at: u32) -> vec3<f32> {
    return bitcast<vec3<f32>>(vec3(trail[at], trail[at + 1u], trail[at + 2u]));
}

// Position of the element at a word, then its recorded positions from the newest.
fn point(at: u32, nth: u32) -> vec3<f32> {
    if nth == 0u {
        let head = read_head(at);
        return head.at - head.velocity * draw.lag;
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
    let head = read_head(at);
    e.id = head.id;
    let share = f32(nth) / f32(count);
    let fade = clamp((head.age - TRAIL_FADE) / (1.0 - TRAIL_FADE), 0.0, 1.0);
    e.age = share + (1.0 - share) * fade;
    let off = end - start;
    // A newborn has not moved yet.
    if dot(off, off) > 1e-12 {
        e.size = head.size;
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

// Counters of the last step.
@group(3) @binding(3) var<storage, read> counters: array<u32>;

fn element_count() -> u32 {
    return counters[draw.count] * draw.stride;
}

fn sprite_at(element: u32) -> PackedSprite {
    var none: PackedSprite;
    return none;
}

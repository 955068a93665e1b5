// Culling: a list of visible elements in order, their number, and their depths as sort keys. Three dispatches: count the visible
// elements of each group, prefix sums, write.

@group(3) @binding(0) var<storage, read_write> blocks: array<u32>;
@group(3) @binding(1) var<storage, read_write> list: array<u32>;
@group(3) @binding(2) var<storage, read_write> keys: array<u32>;
// A draw, a dispatch for sorting, and the number of visible elements.
@group(3) @binding(4) var<storage, read_write> calls: array<u32>;

// Whether a ball can be in the picture; conservative.
fn in_view(at: vec3<f32>, radius: f32) -> bool {
    let eye = frame.view;
    let place = local(eye, at);
    let slack = radius + length(at - eye.place) * 1e-5;
    // Distances from the planes through the eye and the picture's edges.
    let across = length(vec2(eye.focal, eye.half_width));
    let down = length(vec2(eye.focal, eye.half_height));
    return place.z > NEAR - slack
        && (abs(place.x) * eye.focal - place.z * eye.half_width) <= slack * across
        && (abs(place.y) * eye.focal - place.z * eye.half_height) <= slack * down;
}

fn is_seen(nth: u32) -> bool {
    let e = element_at(nth);
    let body = body_of(e);
    if !is_sized(body) {
        return false;
    }
    var reach = body.size * draw.cull_reach;
    if e.curved {
        reach += length(e.middle) + length(e.tip) + e.length * (1.0 + body.wide) * draw.cull_reach;
    }
    // A disc is never smaller than a few pixels.
    let depth = max(local(frame.view, body.at).z, NEAR);
    return in_view(body.at, reach + 2.0 * SMALLEST * depth / frame.view.focal);
}

@compute @workgroup_size(256)
fn mark(
    @builtin(workgroup_id) group: vec3<u32>,
    @builtin(num_workgroups) groups: vec3<u32>,
    @builtin(local_invocation_index) lane: u32,
) {
    let nth = thread(group, groups, lane);
    var seen = false;
    if nth < element_count() {
        seen = is_seen(draw.first + nth);
    }
    let rank = rank_in_group(lane, seen);
    if lane == 0u && nth < element_count() {
        blocks[nth / GROUP] = rank.all;
    }
}

@compute @workgroup_size(256)
fn add_up(@builtin(local_invocation_index) lane: u32) {
    let seen = add_blocks(lane, 0u, (element_count() + GROUP - 1u) / GROUP);
    if lane == 0u {
        calls[LIST_DRAW] = draw.span;
        calls[LIST_DRAW + 1u] = seen;
        calls[LIST_DRAW + 2u] = 0u;
        calls[LIST_DRAW + 3u] = 0u;
        calls[LIST_SORT] = (seen + SORT_TILE - 1u) / SORT_TILE;
        calls[LIST_SORT + 1u] = 1u;
        calls[LIST_SORT + 2u] = 1u;
        calls[LIST_COUNT] = seen;
    }
}

@compute @workgroup_size(256)
fn write_list(
    @builtin(workgroup_id) group: vec3<u32>,
    @builtin(num_workgroups) groups: vec3<u32>,
    @builtin(local_invocation_index) lane: u32,
) {
    let nth = thread(group, groups, lane);
    var seen = false;
    if nth < element_count() {
        seen = is_seen(draw.first + nth);
    }
    let rank = rank_in_group(lane, seen);
    if seen {
        let to = blocks[nth / GROUP] + rank.before;
        list[to] = draw.first + nth;
        // Ascending from far to near, as in frolic-draw/src/sort.rs.
        keys[to] = ~bitcast<u32>(max(local(frame.view, element_at(draw.first + nth).at).z, 0.0));
    }
}

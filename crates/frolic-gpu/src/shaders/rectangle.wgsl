// Transparent rectangles in space or on the screen, looked up pixel by pixel: billboards and sprites. Their edges are smoothed over a pixel.

struct Quad {
    @builtin(position) clip: vec4<f32>,
    // With d = (x, y, 1) in pixels, u = d·u / d·q and v = d·v / d·q run 0..1 across and down, and d·q is one over the depth.
    @location(0) @interpolate(flat) u: vec3<f32>,
    @location(1) @interpolate(flat) v: vec3<f32>,
    @location(2) @interpolate(flat) q: vec3<f32>,
    // Colour times opacity; opacity, 0 adds.
    @location(3) @interpolate(flat) light: vec4<f32>,
    @location(4) @interpolate(flat) sun: vec3<f32>,
    // Kind of fill, region or map, the next frame, share of the next frame.
    @location(5) @interpolate(flat) fill: vec4<u32>,
    @location(6) @interpolate(flat) element: u32,
}

// A rectangle by its upper left corner and the edges across and down, with its colours.
struct Board {
    there: bool,
    origin: vec3<f32>,
    across: vec3<f32>,
    down: vec3<f32>,
    colour: vec3<f32>,
    sun: vec3<f32>,
    cover: f32,
    fill: vec4<u32>,
}

fn billboard_of(e: Element) -> Board {
    var board: Board;
    let body = body_of(e);
    if !is_sized(body) {
        return board;
    }
    let axes = billboard_axes(e, body);
    board.origin = body.at - axes.across + axes.upward;
    board.across = axes.across * 2.0;
    board.down = axes.upward * -2.0;
    let own = body.colour * along(1.0) * body.opacity;
    let light = light_vertex(own, board.origin, -frame.view.forward);
    board.colour = light.base;
    board.sun = light.sun;
    board.cover = cover(body.opacity);
    let frames = frames_of(e.age, e.id);
    board.fill = vec4(FILL_PICTURE, frames.one, frames.next, bitcast<u32>(frames.mix));
    board.there = true;
    return board;
}

fn sprite_of(element: u32) -> Board {
    var board: Board;
    let sprite = sprite_at(element);
    let tint = sprite.tint;
    board.origin = sprite.origin;
    board.across = sprite.across;
    board.down = sprite.down;
    board.fill = vec4(sprite.fill, sprite.place, sprite.place, 0u);
    board.there = tint.w > 0.0;
    let own = max(tint.xyz, vec3(0.0)) * table_at(draw.over_age).xyz * tint.w;
    board.colour = own;
    if !has(ON_SCREEN) {
        let normal = unit_or_up(cross(board.across, board.down));
        let light = light_vertex(own, board.origin + (board.across + board.down) * 0.5, normal);
        board.colour = light.base;
        board.sun = light.sun;
    }
    board.cover = cover(tint.w);
    return board;
}

fn board_of(element: u32) -> Board {
    var board: Board;
    if draw.form == SPRITE {
        board = sprite_of(element);
    } else if has(MERGED) {
        let e = element_at(element);
        let frames = frames_of(e.age, e.id);
        board.fill = vec4(FILL_PICTURE, frames.one, frames.next, bitcast<u32>(frames.mix));
    } else {
        return billboard_of(element_at(element));
    }
    if has(MERGED) {
        let lit = merged_at(element, 0u);
        board.origin = lit.at;
        board.across = merged_at(element, 1u).at - lit.at;
        board.down = merged_at(element, 3u).at - lit.at;
        board.colour = lit.colour;
        board.sun = lit.sun;
        board.cover = lit.cover;
        board.there = dot(lit.colour + lit.sun, vec3(1.0)) + lit.cover > 0.0;
    }
    return board;
}

fn linear(w: vec3<f32>) -> vec3<f32> {
    let c = middle();
    let focal = frame.view.focal;
    return vec3(w.x / focal, -w.y / focal, w.z - (c.x * w.x - c.y * w.y) / focal);
}

@vertex
fn vertex(@builtin(vertex_index) vertex: u32, @builtin(instance_index) instance: u32) -> Quad {
    var out: Quad;
    out.clip = NOWHERE;
    let at = which(vertex, instance);
    let board = board_of(at.element);
    if !board.there {
        return out;
    }
    var low = vec2(1e30);
    var high = vec2(-1e30);
    var depth = 1.0;
    if has(ON_SCREEN) {
        let a = board.across.xy;
        let b = board.down.xy;
        let o = board.origin.xy;
        let per = 1.0 / (a.x * b.y - a.y * b.x);
        if !(abs(per) < 1e30) {
            return out;
        }
        // u and v by Cramer's rule.
        out.u = vec3(b.y * per, -b.x * per, (b.x * o.y - b.y * o.x) * per);
        out.v = vec3(-a.y * per, a.x * per, (a.y * o.x - a.x * o.y) * per);
        out.q = vec3(0.0, 0.0, 1.0);
        low = min(min(o, o + a), min(o + b, o + a + b));
        high = max(max(o, o + a), max(o + b, o + a + b));
    } else {
        let o = local(frame.view, board.origin);
        let a = local(frame.view, board.origin + board.across) - o;
        let b = local(frame.view, board.origin + board.down) - o;
        // A point of the plane is o + u a + v b = t d for the ray d through a pixel.
        let n = cross(a, b);
        let per = 1.0 / dot(o, n);
        let corners = array(o, o + a, o + b, o + a + b);
        var before = 0;
        for (var k = 0; k < 4; k++) {
            if corners[k].z > NEAR {
                let seen = screen(corners[k]);
                low = min(low, seen);
                high = max(high, seen);
                before++;
            }
        }
        if !(abs(per) < 1e30) || before == 0 {
            return out;
        }
        if before < 4 {
            // Part of it is behind the camera, so it may cover anything.
            low = vec2(0.0);
            high = middle() * 2.0;
        }
        out.u = linear(cross(b, o) * per);
        out.v = linear(cross(o, a) * per);
        out.q = linear(n * per);
        depth = max(o.z + (a.z + b.z) * 0.5, NEAR * 1.01);
    }
    out.light = vec4(board.colour, board.cover);
    out.sun = board.sun;
    out.fill = board.fill;
    out.element = at.element;
    let margin = vec2(1.0);
    out.clip = clip_at(mix(low - margin, high + margin, corner_of(at.vertex)), depth);
    return out;
}

// Share of a pixel between 0 and 1, at `share`, for a pixel that covers `grow`.
fn between(share: vec2<f32>, grow: vec2<f32>) -> vec2<f32> {
    let a = clamp(share / grow + 0.5, vec2(0.0), vec2(1.0));
    let b = clamp((1.0 - share) / grow + 0.5, vec2(0.0), vec2(1.0));
    return max(a + b - 1.0, vec2(0.0));
}

fn texels_of(region: u32, grow: vec2<f32>) -> f32 {
    let size = grow * region_size(region);
    return max(size.x, size.y);
}

fn texture_at(fill: vec4<u32>, uv: vec2<f32>, grow: vec2<f32>) -> vec4<f32> {
    switch fill.x {
        case FILL_PICTURE: {
            let one = look_up(fill.y, uv, texels_of(fill.y, grow));
            let part = bitcast<f32>(fill.w);
            if part == 0.0 {
                return one;
            }
            return mix(one, look_up(fill.z, uv, texels_of(fill.z, grow)), part);
        }
        case FILL_TILES: {
            // Of a tile map: tiles across and down, first region of its sheet, then the tiles.
            let size = vec2(regions[fill.y], regions[fill.y + 1u]);
            let spread = uv * vec2<f32>(size);
            let cell = min(vec2<u32>(max(spread, vec2(0.0))), size - 1u);
            let tile = regions[fill.y + 3u + cell.y * size.x + cell.x];
            if tile == 0xffffu {
                return vec4(0.0);
            }
            let region = regions[fill.y + 2u] + tile;
            return look_up(region, spread - vec2<f32>(cell), texels_of(region, grow * vec2<f32>(size)));
        }
        default: { return vec4(1.0); }
    }
}

// Distance from a rounded rectangle about the origin, negative inside (Quilez, "2D distance functions", 2018).
fn rounded(at: vec2<f32>, half: vec2<f32>, radius: f32) -> f32 {
    let q = abs(at) - half + radius;
    return min(max(q.x, q.y), 0.0) + length(max(q, vec2(0.0))) - radius;
}

fn shade(in: Quad) -> vec4<f32> {
    let at = vec3(in.clip.xy, 1.0);
    let q = dot(in.q, at);
    let per = 1.0 / q;
    let near = select(NEAR, 0.0, has(ON_SCREEN));
    if !(q > 0.0 && per > near) {
        return vec4(0.0);
    }
    let uv = vec2(dot(in.u, at), dot(in.v, at)) * per;
    // How much of 0..1 a pixel covers along its steepest way.
    let grow = max(vec2(length(in.u.xy - uv.x * in.q.xy), length(in.v.xy - uv.y * in.q.xy)) * per, vec2(1e-9));
    let shares = between(uv, grow);
    var share = shares.x * shares.y;
    if share <= 0.0 {
        return vec4(0.0);
    }
    let texel = texture_at(in.fill, clamp(uv, vec2(0.0), vec2(1.0)), grow);
    var light = in.light.xyz;
    if any(in.sun != vec3(0.0)) {
        light += in.sun * sunlit(point_behind(in.clip.xy, per));
    }
    var paint = vec4(light * texel.xyz, texel.w * in.light.w);
    if draw.form == SPRITE {
        let sprite = sprite_at(in.element);
        let corner = sprite.corner;
        let size = sprite.size;
        let border = sprite.border;
        if corner > 0.0 || border > 0.0 {
            let half = size * 0.5;
            let off = rounded((uv - 0.5) * size, half, clamp(corner, 0.0, min(half.x, half.y)));
            // Pixels a unit of the sprite.
            let scale = 2.0 / (grow.x * size.x + grow.y * size.y);
            if corner > 0.0 {
                share = min(share, clamp(0.5 - off * scale, 0.0, 1.0));
            }
            if border > 0.0 {
                let inner = clamp(0.5 - (off + border) * scale, 0.0, 1.0);
                let tint = sprite.border_tint;
                let edge = vec4(tint.xyz * tint.w, select(tint.w, 0.0, has(ADDITIVE)));
                paint = mix(edge, paint, inner);
            }
        }
    }
    if has(DEPTH_TEST) && !has(ON_SCREEN) && SOFT {
        share *= soft_share(in.clip.xy, per, draw.per_soft);
    }
    return paint * share;
}

@fragment
fn fragment(in: Quad) -> @location(0) vec4<f32> {
    return shade(in);
}

@fragment
fn fragment_external(in: Quad) -> @location(0) vec4<f32> {
    return shade(in) * vec4(vec3(frame.exposure), 1.0);
}

// Obstacles and shapes: signed distances, and the first contact of a straight path: frolic-core/src/world/obstacles/body.rs.

const HAS_GRIDS: u32 = HAS_GROUNDS | HAS_DISTANCES | HAS_MASKS;

fn kind_of(k: u32) -> u32 {
    return step.solid[k].kind;
}

fn contact_of(k: u32) -> u32 {
    return step.solid[k].contact;
}

// A word of a grid.
fn word(k: u32, nth: u32) -> u32 {
    let row = step.solid[k].grid_row + nth / GRID_WIDTH;
    return textureLoad(grids, vec2(nth % GRID_WIDTH, row), 0).x;
}

fn number(k: u32, nth: u32) -> f32 {
    return bitcast<f32>(word(k, nth));
}

fn from_ball(off: vec3<f32>, radius: f32) -> vec4<f32> {
    let far = length(off);
    return vec4(select(vec3(0.0, 1.0, 0.0), off / far, far > 1e-9), far - radius);
}

// A post: x, z and radius.
fn from_post(p: vec3<f32>, post: vec3<f32>) -> vec4<f32> {
    let off = vec3(p.x - post.x, 0.0, p.z - post.y);
    let far = length(off);
    return vec4(select(vec3(1.0, 0.0, 0.0), off / far, far > 1e-9), far - post.z);
}

// The post of a cell of an endless world, counted from the lowest cell; radius 0 if there is none.
fn post_of(k: u32, cell: vec2<i32>) -> vec3<f32> {
    let wide = step.solid[k].grid.yz;
    if any(cell < vec2(0)) || any(vec2<u32>(cell) >= wide) {
        return vec3(0.0);
    }
    let first = (u32(cell.y) * wide.x + u32(cell.x)) * 3u;
    return vec3(number(k, first), number(k, first + 1u), number(k, first + 2u));
}

fn post_cell(k: u32, flat: vec2<f32>) -> vec2<i32> {
    let place = step.solid[k].place;
    return vec2<i32>(floor(flat / place.x) - place.yz);
}

// The nearest post, up to a cell away: posts stay within their cells.
fn from_posts(k: u32, p: vec3<f32>) -> vec4<f32> {
    let middle = post_cell(k, p.xz);
    var nearest = vec4(0.0, 1.0, 0.0, step.solid[k].place.x);
    for (var nth = 0; nth < 9; nth++) {
        let post = post_of(k, middle + vec2(nth % 3 - 1, nth / 3 - 1));
        let there = from_post(p, post);
        if post.z > 0.0 && there.w < nearest.w {
            nearest = there;
        }
    }
    return nearest;
}

// First contact of a straight path with a post.
fn touch_posts(k: u32, start: vec3<f32>, way: vec3<f32>) -> vec4<f32> {
    let end = start.xz + way.xz;
    // A little wider, as posts may reach beyond their cell by rounding.
    let low = post_cell(k, min(start.xz, end) - 0.01);
    let high = min(post_cell(k, max(start.xz, end) + 0.01), low + 15);
    var first = vec4(0.0, 0.0, 0.0, 2.0);
    for (var z = low.y; z <= high.y; z++) {
        for (var x = low.x; x <= high.x; x++) {
            let post = post_of(k, vec2(x, z));
            if post.z > 0.0 {
                let there = fall(k, true, post, start, way);
                if there.w < first.w {
                    first = there;
                }
            }
        }
    }
    return first;
}

// A height, 0..1, at a share of the width and depth, from the lower edge of the picture.
fn height_at(k: u32, share: vec2<f32>) -> f32 {
    let size = step.solid[k].grid.xy;
    let at = clamp(share * vec2<f32>(size) - 0.5, vec2(0.0), vec2<f32>(size - 1u));
    let low = vec2<u32>(at);
    let high = min(low + 1u, size - 1u);
    let part = at - floor(at);
    let below = mix(number(k, low.y * size.x + low.x), number(k, low.y * size.x + high.x), part.x);
    let above = mix(number(k, high.y * size.x + low.x), number(k, high.y * size.x + high.x), part.x);
    return mix(below, above, part.y);
}

fn ground(k: u32, p: vec3<f32>) -> vec4<f32> {
    let corner = step.solid[k].place;
    let more = step.solid[k].more;
    let flat = p.xz - corner.xz;
    let off = flat - clamp(flat, vec2(0.0), more.xy);
    let away = length(off);
    if away > 0.0 {
        return vec4(off.x / away, 0.0, off.y / away, away);
    }
    var share = flat / more.xy;
    // The picture's upper edge is away (-z).
    share.y = 1.0 - share.y;
    let size = vec2<f32>(step.solid[k].grid.xy);
    let half = 0.5 / size;
    let across = (height_at(k, share + vec2(half.x, 0.0)) - height_at(k, share - vec2(half.x, 0.0))) * size.x;
    let up = (height_at(k, share + vec2(0.0, half.y)) - height_at(k, share - vec2(0.0, half.y))) * size.y;
    let normal = normalize(vec3(-across * corner.w / more.x, 1.0, up * corner.w / more.y));
    let over = p.y - corner.y - height_at(k, share) * corner.w;
    return vec4(normal, over * select(normal.y, more.z, over > 0.0));
}

// The distance and its gradient.
fn distances(k: u32, p: vec3<f32>) -> vec4<f32> {
    let place = step.solid[k].place;
    let points = step.solid[k].grid.xyz;
    let high = place.xyz + vec3<f32>(points - 1u) * place.w;
    let held = clamp(p, place.xyz, high);
    let at = max((held - place.xyz) / place.w, vec3(0.0));
    let cell = min(vec3<u32>(at), points - 2u);
    let part = at - vec3<f32>(cell);
    let first = (cell.z * points.y + cell.y) * points.x + cell.x;
    let up = points.x;
    let on = points.x * points.y;
    let a = vec4(number(k, first), number(k, first + up), number(k, first + on), number(k, first + on + up));
    let b = vec4(number(k, first + 1u), number(k, first + up + 1u), number(k, first + on + 1u), number(k, first + on + up + 1u));
    let along = mix(a, b, part.x);
    let rows = mix(along.xz, along.yw, part.y);
    let value = mix(rows.x, rows.y, part.z);
    let grows = b - a;
    let grows_x = mix(grows.xz, grows.yw, part.y);
    let gradient = vec3(
        mix(grows_x.x, grows_x.y, part.z),
        mix(along.y - along.x, along.w - along.z, part.z),
        rows.y - rows.x,
    ) / place.w;
    let off = p - held;
    if all(off == vec3(0.0)) {
        return vec4(gradient, value);
    }
    let over = max(value, 0.0);
    return vec4(or_zero(off + or_zero(gradient) * over), sqrt(dot(off, off) + over * over));
}

struct Flat {
    way: vec2<f32>,
    distance: f32,
}

fn mask_cell(word: u32) -> vec3<f32> {
    let bits = bitcast<i32>(word);
    return vec3(f32((bits << 8u) >> 24u), f32(bits >> 24u), f32((bits << 16u) >> 16u));
}

// All in units of cells.
fn mask_at(k: u32, at: vec2<f32>) -> Flat {
    let size = step.solid[k].grid.xy;
    let held = min(max(at, vec2(0.0)), vec2<f32>(size));
    let inner = min(max(held - 0.5, vec2(0.0)), max(vec2<f32>(size) - 1.0001, vec2(0.0)));
    let low = vec2<u32>(inner);
    let high = min(low + 1u, size - 1u);
    let part = inner - vec2<f32>(low);
    let below = mix(mask_cell(word(k, low.y * size.x + low.x)), mask_cell(word(k, low.y * size.x + high.x)), part.x);
    let above = mix(mask_cell(word(k, high.y * size.x + low.x)), mask_cell(word(k, high.y * size.x + high.x)), part.x);
    let there = mix(below, above, part.y);
    let distance = there.z * 0.001;
    let off = at - held;
    if all(off == vec2(0.0)) {
        return Flat(or_zero(vec3(there.xy, 0.0)).xy, distance);
    }
    let away = length(off);
    let over = max(distance, 0.0);
    return Flat(off / away, sqrt(over * over + away * away));
}

fn to_cells(k: u32, p: vec3<f32>) -> vec2<f32> {
    let place = step.solid[k].place;
    let flat = select(vec2(p.x, p.y), vec2(p.x, -p.z), place.w > 0.5);
    return (flat - place.xy) * (1.0 / place.z);
}

// Of a convex obstacle: normal and signed distance.
fn sample_convex(k: u32, p: vec3<f32>) -> vec4<f32> {
    let place = step.solid[k].place;
    let more = step.solid[k].more;
    switch kind_of(k) {
        case PLANE: { return vec4(place.xyz, dot(p, place.xyz) - place.w); }
        case SPHERE: { return from_ball(p - place.xyz, place.w); }
        case POST: { return from_post(p, vec3(place.x, place.z, place.w)); }
        case CAPSULE: {
            let off = p - place.xyz;
            let share = clamp(dot(off, more.xyz) / max(dot(more.xyz, more.xyz), 1e-12), 0.0, 1.0);
            return from_ball(off - more.xyz * share, place.w);
        }
        default: {
            let off = p - place.xyz;
            let own = vec3(off.x * more.w - off.z * place.w, off.y, off.x * place.w + off.z * more.w);
            let over = abs(own) - more.xyz;
            let side = select(vec3(-1.0), vec3(1.0), own >= vec3(0.0));
            let most = max(over.x, max(over.y, over.z));
            var distance = most;
            var normal = vec3(0.0);
            if most > 0.0 {
                let out = max(over, vec3(0.0));
                distance = length(out);
                normal = out / distance * side;
            } else if over.x >= over.y && over.x >= over.z {
                normal.x = side.x;
            } else if over.y >= over.z {
                normal.y = side.y;
            } else {
                normal.z = side.z;
            }
            return vec4(normal.x * more.w + normal.z * place.w, normal.y, normal.z * more.w - normal.x * place.w, distance);
        }
    }
}

// The same of a grid. Kinds that do not occur are compiled out.
fn sample_grid(k: u32, p: vec3<f32>) -> vec4<f32> {
    if (FEATURES & HAS_GROUNDS) != 0u && kind_of(k) == GROUND {
        return ground(k, p);
    }
    if (FEATURES & HAS_DISTANCES) != 0u && kind_of(k) == DISTANCES {
        let there = distances(k, p);
        return vec4(or_zero(there.xyz), there.w);
    }
    if (FEATURES & HAS_MASKS) != 0u {
        let there = mask_at(k, to_cells(k, p));
        let place = step.solid[k].place;
        let way = select(vec3(there.way, 0.0), vec3(there.way.x, 0.0, -there.way.y), place.w > 0.5);
        return vec4(way, there.distance * place.z);
    }
    return vec4(0.0, 1.0, 0.0, 1e30);
}

fn is_endless(k: u32) -> bool {
    return (FEATURES & HAS_POSTS) != 0u && kind_of(k) == POSTS;
}

fn is_grid(k: u32) -> bool {
    return (FEATURES & HAS_GRIDS) != 0u && ((FEATURES & HAS_CONVEX) == 0u || kind_of(k) >= GROUND) && !is_endless(k);
}

fn sample(k: u32, p: vec3<f32>) -> vec4<f32> {
    if is_endless(k) {
        return from_posts(k, p);
    }
    if is_grid(k) {
        return sample_grid(k, p);
    }
    if (FEATURES & HAS_CONVEX) != 0u {
        return sample_convex(k, p);
    }
    return vec4(0.0, 1.0, 0.0, 1e30);
}

fn cell_of(k: u32) -> f32 {
    switch kind_of(k) {
        case GROUND: { return step.solid[k].more.w; }
        case MASK: { return step.solid[k].place.z; }
        default: { return step.solid[k].place.w; }
    }
}

// The way out of a grid from a position where the gradient vanishes, searched in growing neighbourhoods; zero if there is
// none.
fn way_out(k: u32, p: vec3<f32>) -> vec3<f32> {
    if kind_of(k) < DISTANCES {
        return vec3(0.0);
    }
    let cell = cell_of(k);
    let here = sample_grid(k, p).w + cell * 0.1;
    for (var turn = 0u; turn < 6u; turn++) {
        var best = vec4(0.0, 0.0, 0.0, here);
        for (var nth = 0u; nth < 27u; nth++) {
            if nth != 13u {
                let way = normalize(vec3(f32(nth % 3u), f32(nth / 3u % 3u), f32(nth / 9u)) - 1.0);
                let there = sample_grid(k, p + way * (cell * f32(1u << turn))).w;
                if there > best.w {
                    best = vec4(way, there);
                }
            }
        }
        if any(best.xyz != vec3(0.0)) {
            return best.xyz;
        }
    }
    return vec3(0.0);
}

// First contact of a straight path, and the normal; a share above 1 if there is none.
fn first_touch(k: u32, start: vec3<f32>, way: vec3<f32>) -> vec4<f32> {
    if is_grid(k) {
        return walk(k, start, way);
    }
    if is_endless(k) {
        return touch_posts(k, start, way);
    }
    if (FEATURES & HAS_CONVEX) != 0u {
        return fall(k, false, vec3(0.0), start, way);
    }
    return vec4(0.0, 0.0, 0.0, 2.0);
}

// Of a convex obstacle, or of a post of an endless world: Newton's steps on the distance.
fn fall(k: u32, is_post: bool, post: vec3<f32>, start: vec3<f32>, way: vec3<f32>) -> vec4<f32> {
    let along = length(way) * 1e-5;
    var at = 0.0;
    for (var turn = 0u; turn < 16u; turn++) {
        var there = vec4(0.0, 1.0, 0.0, 1e30);
        if is_post {
            there = from_post(start + way * at, post);
        } else if (FEATURES & HAS_CONVEX) != 0u {
            there = sample_convex(k, start + way * at);
        }
        let nearing = -dot(way, there.xyz);
        if nearing <= along {
            break;
        }
        if there.w <= SKIN {
            return vec4(there.xyz, at);
        }
        at += (there.w - 0.5 * SKIN) / nearing;
        if at > 1.0 {
            break;
        }
    }
    return vec4(0.0, 0.0, 0.0, 2.0);
}

// The same through a grid: as far as the distance allows, at least half a cell; once inside, back to the edge.
fn walk(k: u32, start: vec3<f32>, way: vec3<f32>) -> vec4<f32> {
    let nowhere = vec4(0.0, 0.0, 0.0, 2.0);
    let far = length(way);
    // Heights grow slower than distances on a slope.
    let cell = cell_of(k) * select(1.0, step.solid[k].more.z, kind_of(k) == GROUND);
    var outside = 0.0;
    var off = sample_grid(k, start).w;
    if far <= 0.0 || off - cell * 0.25 > far {
        return nowhere;
    }
    for (var turn = 0u; turn < 4096u; turn++) {
        if outside >= 1.0 {
            return nowhere;
        }
        let at = min(outside + max(off - cell * 0.25, cell * 0.5) / far, 1.0);
        let there = sample_grid(k, start + way * at).w;
        if there > 0.0 {
            outside = at;
            off = there;
            continue;
        }
        var inside = at;
        var depth = there;
        for (var back = 0u; back < 8u; back++) {
            if off <= max(SKIN, cell * 0.01) * 4.0 {
                break;
            }
            let gap = off - depth;
            let share = select(0.5, clamp(off / gap, 0.02, 0.98), gap > 0.0);
            let middle = outside + (inside - outside) * share;
            let between = sample_grid(k, start + way * middle).w;
            if between > 0.0 {
                outside = middle;
                off = between;
            } else {
                inside = middle;
                depth = between;
            }
        }
        break;
    }
    return vec4(sample_grid(k, start + way * outside).xyz, outside);
}

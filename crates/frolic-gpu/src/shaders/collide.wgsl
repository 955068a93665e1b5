// Collision response: frolic-core/src/world/obstacles/collide.rs.

// Time of the path, in seconds: a step, or the rest of it after a birth.
var<private> seconds: f32;

struct Moved {
    at: vec3<f32>,
    velocity: vec3<f32>,
    // Whether it touched an obstacle, the first one, the speed towards it, and whether it counts as a hit.
    touched: bool,
    hit: bool,
    which: u32,
    into: f32,
    normal: vec3<f32>,
    // Whether the contact ends its life.
    dies: bool,
    // Whether a collector picks it up, and which.
    picked: bool,
    by: u32,
}

fn respond(k: u32, velocity: vec3<f32>, normal: vec3<f32>) -> vec3<f32> {
    let into = dot(velocity, normal);
    if into >= 0.0 {
        return velocity;
    }
    let solid = step.solid[k];
    return (velocity - normal * into) * (1.0 - solid.friction) - normal * (into * solid.bounce);
}

// Slow, pressed against the obstacle, and held by friction.
fn holds(k: u32, speed: f32, into: f32) -> bool {
    return speed <= step.rest_speed && into >= 0.5 * speed && step.solid[k].friction > 0.0;
}

fn touch(to: ptr<function, Moved>, k: u32, normal: vec3<f32>) {
    if !(*to).touched {
        (*to).touched = true;
        (*to).which = k;
        (*to).normal = normal;
        (*to).into = -dot((*to).velocity, normal);
        (*to).hit = (*to).into > 0.0;
    }
}

fn die(to: ptr<function, Moved>) {
    (*to).dies = true;
    (*to).hit = true;
}

// Pushes a position out of all obstacles by its depth. Returns false if the way out is unknown deep inside.
fn bring_out(to: ptr<function, Moved>) -> bool {
    for (var turn = 0u; turn < 8u; turn++) {
        var is_out = true;
        for (var k = 0u; k < step.obstacles; k++) {
            let there = sample(k, (*to).at);
            if contact_of(k) == PASSES || there.w >= 0.0 {
                continue;
            }
            var normal = there.xyz;
            if (FEATURES & (HAS_DISTANCES | HAS_MASKS)) != 0u && all(normal == vec3(0.0)) {
                normal = way_out(k, (*to).at);
                if all(normal == vec3(0.0)) {
                    return false;
                }
            }
            touch(to, k, normal);
            if contact_of(k) == DIES {
                die(to);
                return true;
            }
            (*to).at -= normal * (there.w - SKIN * f32(turn + 1u) * 0.5);
            (*to).velocity = respond(k, (*to).velocity, normal);
            is_out = false;
        }
        if is_out {
            return true;
        }
    }
    (*to).velocity = vec3(0.0);
    return true;
}

// Whether an element at rest stays at rest.
fn supports(p: vec3<f32>) -> bool {
    for (var k = 0u; k < step.obstacles; k++) {
        if contact_of(k) != BOUNCES || step.solid[k].friction <= 0.0 || is_endless(k) {
            continue;
        }
        if (FEATURES & HAS_MASKS) != 0u && kind_of(k) == MASK {
            let at = to_cells(k, p);
            let size = step.solid[k].grid.xy;
            if all(at >= vec2(0.0)) && all(at < vec2<f32>(size)) {
                let cell = vec2<u32>(at);
                if abs(mask_cell(word(k, cell.y * size.x + cell.x)).z) <= 1600.0 {
                    return true;
                }
            }
        } else {
            let off = sample(k, p).w;
            if off >= 0.0 && off <= HELD {
                return true;
            }
        }
    }
    return false;
}

// The nearest or deepest obstacle at a position, and the signed distance.
fn nearest(p: vec3<f32>, which: ptr<function, u32>) -> f32 {
    var least = 1e30;
    for (var k = 0u; k < step.obstacles; k++) {
        let off = sample(k, p).w;
        if off < least {
            least = off;
            *which = k;
        }
    }
    return least;
}

// Part of a velocity that can cross an obstacle: among masks in one orientation, the part in their plane.
fn pace(velocity: vec3<f32>) -> f32 {
    switch step.flat_masks {
        case 1u: { return length(velocity.xy); }
        case 2u: { return length(velocity.xz); }
        default: { return length(velocity); }
    }
}

// A path through grids alone: each advance is as long as the distance allows, and at least the shortest that crosses nothing.
fn march(start: vec3<f32>, to: ptr<function, Moved>) {
    var which = 0u;
    let moved_to = (*to).at;
    (*to).at = start;
    var off = nearest(start, &which);
    if off < 0.0 {
        if !bring_out(to) {
            (*to).velocity = vec3(0.0);
            return;
        }
        if (*to).dies {
            return;
        }
        off = 0.0;
    }
    var left = seconds;
    var speed = pace((*to).velocity);
    var touches = 0u;
    for (var turn = 0u; turn < 4096u; turn++) {
        let safe = off - step.short_way * 0.5;
        if speed * left <= safe || speed * left <= 0.0 {
            (*to).at += (*to).velocity * left;
            left = 0.0;
            break;
        }
        let time = min(max(safe, step.short_way) / speed, left);
        let next = (*to).at + (*to).velocity * time;
        let there = nearest(next, &which);
        if there > 0.0 {
            (*to).at = next;
            off = there;
            left -= time;
            continue;
        }
        // Elements along an edge continue; others stop between the two distances.
        var goes_along = false;
        var edge = vec4(0.0);
        if (*to).touched && off <= step.short_way * 0.5 {
            edge = sample(which, next);
            goes_along = abs(dot((*to).velocity, edge.xyz)) <= speed * 0.35;
        }
        let share = select(off / max(off - there, 1e-30), 1.0, goes_along || off <= there);
        (*to).at += (*to).velocity * (time * share);
        left -= time * share;
        if !goes_along {
            edge = sample(which, (*to).at);
        }
        touch(to, which, edge.xyz);
        if contact_of(which) == DIES {
            die(to);
            return;
        }
        // Half a skin off the edge, so that sliding does not touch in every step.
        (*to).at -= edge.xyz * min(edge.w - SKIN * 0.5, 0.0);
        off = max(edge.w, 0.0);
        // At the flat angles of sliding along steps, a contact costs no speed.
        let into = dot((*to).velocity, edge.xyz);
        if goes_along && time > 0.0 {
            (*to).velocity -= edge.xyz * min(into, 0.0);
        } else {
            (*to).velocity = respond(which, (*to).velocity, edge.xyz);
            touches++;
        }
        speed = pace((*to).velocity);
        if touches == MOST_TOUCHES {
            break;
        }
    }
    if !(*to).touched {
        (*to).at = moved_to;
        return;
    }
    (*to).velocity *= 1.0 - left / seconds;
    bring_out(to);
}

// Contacts of an element that moves from `start` with the velocity of `to`.
fn meet(start: vec3<f32>, rested: bool, to: ptr<function, Moved>) {
    let speed = length((*to).velocity);
    if rested && speed <= step.rest_speed && supports(start) {
        (*to).at = start;
        (*to).velocity = vec3(0.0);
        return;
    }
    if (FEATURES & MARCHES) != 0u {
        if pace((*to).velocity) * seconds <= step.short_way {
            // A path too short to cross anything: only its end matters.
            if !bring_out(to) {
                (*to).at = start;
                (*to).velocity = vec3(0.0);
            }
            if (*to).touched && holds((*to).which, speed, (*to).into) {
                (*to).velocity = vec3(0.0);
            }
            return;
        }
        march(start, to);
        return;
    }
    meet_any(start, speed, to);
}

// The same among obstacles of any kind.
fn meet_any(start: vec3<f32>, speed: f32, to: ptr<function, Moved>) {
    var clear = 1e30;
    var inside = false;
    for (var k = 0u; k < step.obstacles; k++) {
        let there = sample(k, start);
        let towards = -dot((*to).velocity, there.xyz);
        switch contact_of(k) {
            case STICKS: {
                if abs(there.w) <= HELD {
                    (*to).touched = true;
                    (*to).at = start;
                    (*to).velocity = vec3(0.0);
                    return;
                }
            }
            case PASSES: {
                if there.w > 0.0 && there.w <= speed * seconds + SKIN {
                    let first = first_touch(k, start, (*to).velocity * seconds);
                    if first.w <= 1.0 {
                        (*to).touched = false;
                        touch(to, k, first.xyz);
                    }
                }
                continue;
            }
            case BOUNCES: {
                if there.w >= 0.0 && there.w <= HELD && holds(k, speed, towards) {
                    (*to).at = start;
                    (*to).velocity = vec3(0.0);
                    return;
                }
            }
            default: {}
        }
        inside = inside || there.w < 0.0;
        var spare = 0.0;
        if is_grid(k) {
            spare = cell_of(k) * 0.25;
        }
        clear = min(clear, there.w - spare);
    }
    if !inside && clear > speed * seconds + SKIN {
        return;
    }
    let moved_to = (*to).at;
    (*to).at = start;
    if inside {
        if !bring_out(to) {
            (*to).velocity = vec3(0.0);
            return;
        }
        if (*to).dies {
            return;
        }
    }
    var left = seconds;
    for (var turn = 0u; turn < MOST_TOUCHES; turn++) {
        let way = (*to).velocity * left;
        var first = vec4(0.0, 0.0, 0.0, 2.0);
        var which = 0u;
        for (var k = 0u; k < step.obstacles; k++) {
            if contact_of(k) == PASSES {
                continue;
            }
            let there = first_touch(k, (*to).at, way);
            if there.w < first.w {
                first = there;
                which = k;
            }
        }
        if first.w > 1.0 || ((*to).touched && dot(way, way) <= 0.0) {
            (*to).at += way;
            left = 0.0;
            break;
        }
        (*to).at += way * first.w;
        left *= 1.0 - first.w;
        touch(to, which, first.xyz);
        if contact_of(which) == DIES {
            die(to);
            return;
        }
        if contact_of(which) == STICKS {
            let there = sample(which, (*to).at);
            (*to).at -= there.xyz * there.w;
            (*to).velocity = vec3(0.0);
            return;
        }
        (*to).velocity = respond(which, (*to).velocity, first.xyz);
    }
    if !(*to).touched {
        (*to).at = moved_to;
        return;
    }
    if left > 0.0 {
        (*to).velocity *= 1.0 - left / seconds;
    }
    bring_out(to);
}

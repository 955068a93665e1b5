// One step of a body: fields (fields.wgsl), integration, obstacles and collectors (colliders.wgsl, collide.wgsl).

@group(1) @binding(0) var grids: texture_2d<u32>;

// An element after a step; `meets`: with contacts. An element that was born at the end of the last step starts from the
// velocity of the leapfrog.
fn moved(place: vec3<f32>, before: vec3<f32>, is_new: bool, meets: bool) -> Moved {
    var velocity = before;
    // A loop, since devices skip a loop that no lane takes, but run both sides of a branch.
    for (var births = select(0u, 1u, is_new); births > 0u; births--) {
        velocity = before_birth(sum_fields(place, before), before);
    }
    var to: Moved;
    if (FEATURES & HAS_FIELDS) != 0u {
        to.velocity = after(sum_fields(place, velocity), velocity, step.keep, step.reach);
    } else {
        var a = step.push;
        if (FEATURES & HAS_GUSTS) != 0u {
            a += gust_at(place) * step.drag;
        }
        if (FEATURES & HAS_ATTRACTOR) != 0u {
            a += attraction(place);
        }
        to.velocity = velocity * step.keep + a * step.reach;
    }
    to.at = place + to.velocity * step.dt;
    if (FEATURES & HAS_SHAPES) != 0u {
        hold_on(&to);
    }
    if meets {
        seconds = step.dt;
        encounter(place, !is_new && all(velocity == vec3(0.0)), &to);
    }
    return to;
}

// Contacts with obstacles and collectors on the path, which took `seconds`.
fn encounter(place: vec3<f32>, rested: bool, to: ptr<function, Moved>) {
    if (FEATURES & HAS_OBSTACLES) != 0u {
        meet(place, rested, to);
    }
    for (var k = 0u; ENDS_LIVES && !(*to).dies && k < step.collectors; k++) {
        // In the frame of the collector: the end of the path, and the path if it was straight.
        let end = (*to).at - step.collector[k].at;
        let way = select((*to).velocity * seconds, vec3(0.0), (*to).touched) - step.collector[k].moved;
        let share = clamp(dot(end, way) / (dot(way, way) + 1e-30), 0.0, 1.0);
        let near = end - way * share;
        let radius = step.collector[k].radius;
        if !(*to).picked && dot(near, near) < radius * radius {
            (*to).picked = true;
            (*to).by = k;
        }
    }
}

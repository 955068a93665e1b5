// Steers every element of a flock by those around it and moves it as a body of the world: frolic-core/src/families/flock. Dispatches: `steer`;
// `sum_up`, which adds up the order of the flock in the order of groups; `keep_within`.

@group(0) @binding(10) var<storage, read_write> sums: array<vec4<f32>>;
@group(0) @binding(12) var<storage, read_write> bearings: array<vec4<f32>>;
@group(0) @binding(13) var<storage, read> arranged: array<vec4<u32>>;
@group(0) @binding(14) var<storage, read> cells: array<vec2<u32>>;
@group(0) @binding(15) var<storage, read> others: array<vec4<u32>>;

// Sums of lanes: heading and speed, place and distance of the nearest, turn and number of those that have a nearest.
var<workgroup> headings: array<vec4<f32>, GROUP>;
var<workgroup> middles: array<vec4<f32>, GROUP>;
var<workgroup> turns: array<vec4<f32>, GROUP>;
// Pairs tested and near; in a crowd.
var<workgroup> pairs: array<vec3<u32>, GROUP>;

struct Own {
    nth: u32,
    at: vec3<f32>,
    heading: vec3<f32>,
}

struct Seen {
    away: vec3<f32>,
    velocity: vec3<f32>,
    alarm: f32,
    aligned: f32,
    middle: vec3<f32>,
    gathered: f32,
    // Square of a distance; above every reach if no other is in reach.
    nearest: f32,
    near: f32,
}

fn shortest(way: vec3<f32>) -> vec3<f32> {
    let half = select(vec3(1e38), flock.lengths * 0.5, flock.lengths > vec3(0.0));
    return way - select(vec3(0.0), flock.lengths, way > half) + select(vec3(0.0), flock.lengths, way < -half);
}

fn look_at(own: Own, other: u32, seen: ptr<function, Seen>) {
    if other == own.nth {
        return;
    }
    let there = bitcast<vec4<f32>>(arranged[other]);
    let way = shortest(there.xyz - own.at);
    let square = dot(way, way);
    if square > flock.reach {
        return;
    }
    (*seen).near += 1.0;
    (*seen).nearest = min((*seen).nearest, square);
    let ahead = dot(way, own.heading);
    if ahead * abs(ahead) < flock.view * square {
        return;
    }
    let share = max(1.0 - square * flock.per_separation, 0.0);
    (*seen).away -= way * (share * share * share * share);
    if square <= flock.alignment {
        (*seen).velocity += bitcast<vec3<f32>>(arranged[arranged_at(1u, other)].xyz);
        (*seen).alarm += there.w;
        (*seen).aligned += 1.0;
    }
    if square <= flock.cohesion_reach {
        (*seen).middle += way;
        (*seen).gathered += 1.0;
    }
}

// Looks at all in the cells around, or in a crowd at evenly spaced ones, for all.
fn look(own: Own, cell: vec3<u32>, tested: ptr<function, u32>, crowded: ptr<function, u32>) -> Seen {
    var seen: Seen;
    seen.nearest = 3e38;
    let count = cells_around(flock.grid);
    var all = 0u;
    for (var k = 0u; k < count; k++) {
        let run = cells[around(flock.grid, cell, k)];
        all += run.y - run.x;
    }
    var each = 1u;
    if flock.most > 0u && all > flock.most {
        each = (all + flock.most - 1u) / flock.most;
        *crowded = 1u;
    }
    var over = 0u;
    if each > 1u {
        over = hash3(vec3(flock.number, cell_number(flock.grid, cell), 0x6372u)).x % each;
    }
    for (var k = 0u; k < count; k++) {
        let run = cells[around(flock.grid, cell, k)];
        var place = run.x + over;
        while place < run.y {
            look_at(own, place, &seen);
            *tested += 1u;
            place += each;
        }
        over = place - run.y;
    }
    if each == 1u {
        // Not itself.
        *tested -= 1u;
    } else {
        let many = f32(each);
        seen.away *= many;
        seen.velocity *= many;
        seen.middle *= many;
        seen.alarm *= many;
        seen.aligned *= many;
        seen.gathered *= many;
    }
    return seen;
}

// Adds the direction to a target, which may be absent; returns the alarm that it raises.
fn pull(target_nth: u32, at: vec3<f32>, wish: ptr<function, vec3<f32>>) -> f32 {
    let goal = flock.goal[target_nth];
    // In the plane of the flock, if it has one.
    var way = goal.at * step.free - at;
    var there = goal.kind == TARGET_PLACE;
    if goal.kind == TARGET_POPULATION {
        let first = goal.slot * SEEN_ROWS;
        var best = goal.radius * goal.radius;
        for (var k = 1u; k <= others[first].x; k++) {
            let other = bitcast<vec3<f32>>(others[first + k].xyz) * step.free - at;
            let square = dot(other, other);
            if square < best {
                best = square;
                way = other;
                there = true;
            }
        }
    }
    if !there {
        return 0.0;
    }
    let distance = length(way);
    let per = select(0.0, 1.0 / distance, distance > 1e-9);
    // Fades over the outer half of its radius.
    let fading = clamp((1.0 - distance / goal.radius) * 2.0, 0.0, 1.0);
    // Within `keep` it lets go.
    let let_go = clamp((distance / max(goal.keep, 1e-9) - 1.0) * 4.0, -0.5, 1.0);
    let towards = goal.weight * select(1.0, let_go, goal.keep > 0.0) * fading * per;
    let flat = length(way.xz);
    let aside = select(0.0, goal.orbit * fading / flat, flat > 1e-9);
    *wish += way * towards + vec3(-way.z, 0.0, way.x) * aside;
    return goal.alarm * fading;
}

// Share of a margin that is used up behind a wall.
fn used_up(depth: vec3<f32>, margin: f32) -> vec3<f32> {
    return clamp((depth + margin) / margin, vec3(0.0), vec3(2.0));
}

fn turn_back(ahead: vec3<f32>, margin: f32) -> vec3<f32> {
    if flock.space == SPACE_BOX {
        return used_up(flock.low - ahead, margin) - used_up(ahead - flock.high, margin);
    }
    if flock.space == SPACE_BALL {
        let off = ahead - flock.low;
        let distance = length(off);
        return off * (-used_up(vec3(distance - flock.high.x), margin).x / max(distance, 1e-9));
    }
    return vec3(0.0);
}

// Around obstacles of the world: along the surface, and away from it.
fn around_obstacles(at: vec3<f32>, way: vec3<f32>, far: f32) -> vec3<f32> {
    var which = 0u;
    if nearest(at, &which) > far * 1.5 {
        return vec3(0.0);
    }
    var near = 1e30;
    var out = vec3(0.0);
    for (var k = 0u; k < 3u; k++) {
        let there = at + way * array(0.35, 0.7, 1.0)[k];
        let off = nearest(there, &which);
        if off < near {
            near = off;
            out = sample(which, there).xyz;
        }
    }
    let margin = far * 0.5;
    let share = used_up(vec3(-near), margin).x;
    let heading = way / far;
    let aside = out - heading * dot(out, heading);
    // Straight at it, the way out is back: past it is better.
    let side = select(-1.0, 1.0, heading.z >= 0.0);
    let a = -1.0 / (side + heading.z);
    let any = vec3(heading.x * heading.y * a, side + heading.y * heading.y * a, -heading.y);
    let past = select(any, or_zero(aside), length(aside) > 1e-20);
    return (out + past) * (share * 0.7);
}

// Puts an element back inside; what it had of speed towards the wall is lost.
fn hold(to: ptr<function, Moved>) {
    if flock.space == SPACE_BOX {
        let held = clamp((*to).at, flock.low, flock.high);
        (*to).velocity = select((*to).velocity, vec3(0.0), held != (*to).at);
        (*to).at = held;
    } else if flock.space == SPACE_BALL {
        let off = (*to).at - flock.low;
        let distance = length(off);
        if distance > flock.high.x {
            let normal = off / distance;
            (*to).at = flock.low + normal * (flock.high.x * (1.0 - 1e-6));
            (*to).velocity -= normal * max(dot((*to).velocity, normal), 0.0);
        }
    } else if flock.space == SPACE_WRAPPING {
        let turns = floor(((*to).at - flock.low) / flock.high);
        let end = flock.low + flock.high;
        let folded = (*to).at - turns * flock.high;
        let inside = select(max(folded, flock.low), flock.low, folded >= end);
        (*to).at = select((*to).at, inside, turns != vec3(0.0));
    }
}

// Of flocks whose elements keep apart, after they were pushed.
@compute @workgroup_size(256)
fn keep_within(
    @builtin(workgroup_id) group: vec3<u32>,
    @builtin(num_workgroups) groups: vec3<u32>,
    @builtin(local_invocation_index) lane: u32,
) {
    let nth = thread(group, groups, lane);
    if is_gap(nth) {
        return;
    }
    var to: Moved;
    to.at = bitcast<vec3<f32>>(next_places[nth].xyz);
    to.velocity = bitcast<vec3<f32>>(next_motions[nth].xyz);
    hold(&to);
    next_places[nth] = vec4(bitcast<vec3<u32>>(to.at), next_places[nth].w);
    next_motions[nth] = vec4(bitcast<vec3<u32>>(to.velocity), next_motions[nth].w);
}

fn share_of(value: f32, range: vec2<f32>) -> f32 {
    return clamp((value - range.x) / max(range.y - range.x, 1e-9), 0.0, 1.0);
}

@compute @workgroup_size(256)
fn steer(
    @builtin(workgroup_id) group: vec3<u32>,
    @builtin(num_workgroups) groups: vec3<u32>,
    @builtin(local_invocation_index) lane: u32,
) {
    let nth = thread(group, groups, lane);
    headings[lane] = vec4(0.0);
    middles[lane] = vec4(0.0);
    turns[lane] = vec4(0.0);
    pairs[lane] = vec3(0u);
    if !is_gap(nth) {
        steer_one(nth, lane);
    }
    workgroupBarrier();
    for (var half = GROUP / 2u; half > 0u; half /= 2u) {
        if lane < half {
            headings[lane] += headings[lane + half];
            middles[lane] += middles[lane + half];
            turns[lane] += turns[lane + half];
            pairs[lane] += pairs[lane + half];
        }
        workgroupBarrier();
    }
    if lane == 0u && !is_gap(nth) {
        let row = nth / GROUP * SUM_ROWS;
        sums[row] = headings[0];
        sums[row + 1u] = middles[0];
        sums[row + 2u] = turns[0];
        sums[row + 3u] = bitcast<vec4<f32>>(vec4(pairs[0], 0u));
    }
}

fn steer_one(nth: u32, lane: u32) {
    let place = arranged[arranged_at(2u, nth)];
    let motion = arranged[arranged_at(1u, nth)];
    let kept = bitcast<vec4<f32>>(arranged[arranged_at(3u, nth)]);
    let row = bitcast<vec4<f32>>(arranged[nth]);
    let velocity = bitcast<vec3<f32>>(motion.xyz);
    let speed = length(velocity);
    // An element at rest has no heading; it takes the first one that a rule gives.
    let heading = select(vec3(0.0), velocity / speed, speed > 1e-12);
    let own = Own(nth, row.xyz, heading);
    let alarm = row.w;
    let cell = cell_at(flock.grid, bitcast<vec3<f32>>(place.xyz));
    var tested = 0u;
    var crowded = 0u;
    let seen = look(own, cell, &tested, &crowded);

    // What acts beside those around.
    var wish = vec3(0.0);
    var raised = 0.0;
    for (var k = 0u; k < flock.targets; k++) {
        raised = max(raised, pull(k, own.at, &wish));
    }
    if flock.avoid > 0.0 && flock.look_ahead > 0.0 {
        let at = select(bitcast<vec3<f32>>(place.xyz), own.at, step.free > vec3(0.0));
        let way = velocity * flock.look_ahead;
        let far = max(length(way), 1e-6);
        var aside = turn_back(at + way, far * 0.5);
        if (FEATURES & HAS_OBSTACLES) != 0u {
            aside += around_obstacles(at, way, far);
        }
        wish += aside * flock.avoid;
    }
    if flock.hunts != 0u {
        wish += bitcast<vec3<f32>>(others[CHASE_ROWS + nth].xyz) * flock.chase;
    }

    // The rules: `steer` of frolic-core/src/families/flock/steer.rs.
    let away = at_most(seen.away * flock.separation, 1.0);
    let per = select(0.0, 1.0 / seen.aligned, seen.aligned > 0.0);
    let there = select(0.0, flock.per_cruise, seen.aligned > 0.0);
    let along = at_most((seen.velocity * per - velocity) * there, 1.0);
    let inward = seen.middle * select(0.0, flock.cohesion / seen.gathered, seen.gathered > 0.0);
    // In alarm they close up.
    let cohesion = flock.cohesion_weight * (1.0 + alarm);
    let strengths = vec3(
        dot(away, away) * flock.separation_weight * flock.separation_weight,
        dot(along, along) * flock.alignment_weight * flock.alignment_weight,
        dot(inward, inward) * cohesion * cohesion,
    );
    var rule = 1.0;
    if strengths.x >= strengths.y && strengths.x >= strengths.z {
        rule = 0.0;
    } else if strengths.y >= strengths.z {
        rule = 0.5;
    }
    // Towards its own speed, or the greatest in alarm.
    let pace = unit(hash3(vec3(motion.w, step.seed, 0x5eedu))).z;
    let cruise = flock.cruise.x + (flock.cruise.y - flock.cruise.x) * pace;
    let wanted = cruise + (flock.limits.y - cruise) * alarm;
    let faster = clamp((wanted - speed) * flock.per_cruise, -1.0, 1.0);
    let rules = away * flock.separation_weight + along * flock.alignment_weight + inward * cohesion + heading * faster
        + wish - vec3(0.0, heading.y * flock.level, 0.0);
    let wished = (velocity + at_most(rules, 1.0) * (flock.acceleration * step.dt)) * step.free;
    let length_wished = length(wished);
    let ahead = select(vec3(0.0), wished / length_wished, length_wished > 1e-12);
    // The greatest turn: from the heading, in the plane of both directions.
    let cosine = dot(heading, ahead);
    let edge = ahead - heading * cosine;
    let side = length(edge);
    var next = ahead;
    if cosine < flock.turn.x && side > 1e-6 && speed > 1e-12 {
        next = heading * flock.turn.x + edge * (flock.turn.y / side);
    }
    let goes = min(max(length_wished, flock.limits.x), flock.limits.y);
    // Noise turns it to any side.
    var noise = (unit(hash3(vec3(motion.w, flock.number, step.seed))) * 2.0 - 1.0) * step.free;
    noise -= next * dot(noise, next);
    next += noise * flock.wander;
    let long = length(next);
    var new_velocity = next * select(0.0, goes / long, long > 1e-12);
    if speed <= 1e-12 && long <= 1e-12 {
        new_velocity = velocity;
    }
    // Bank by the part of the acceleration that points aside.
    let flat = length(heading.xz);
    let off = new_velocity - velocity;
    let aside = (off.x * heading.z - off.z * heading.x) * select(0.0, 1.0 / flat, flat > 1e-6) / step.dt;
    let lean = clamp(-aside * flock.bank, -1.3, 1.3);
    let bank = kept.x + (lean - kept.x) * flock.bank_share;
    let way = kept.y + goes * step.dt;
    let passed = alarm + max(seen.alarm * per - alarm, 0.0) * flock.spread;
    let new_alarm = min(max(passed * flock.calm, raised), 1.0);

    // As a body of the world.
    var to = moved(bitcast<vec3<f32>>(place.xyz), new_velocity, false, (FEATURES & HAS_OBSTACLES) != 0u);
    hold(&to);
    if to.hit {
        atomicAdd(&counters[HITS], 1u);
    }
    next_places[nth] = vec4(bitcast<vec3<u32>>(to.at), place.w);
    next_motions[nth] = vec4(bitcast<vec3<u32>>(to.velocity), motion.w);
    var tint = -1.0;
    switch flock.tint_by {
        case TINT_SPEED: { tint = share_of(length(to.velocity), flock.tint_range); }
        case TINT_DENSITY: { tint = share_of(seen.gathered, flock.tint_range); }
        case TINT_ALARM: { tint = new_alarm; }
        case TINT_RULE: { tint = rule; }
        case TINT_STATE: {
            if flock.hunts != 0u {
                tint = select(select(0.5, 0.0, bitcast<u32>(kept.w) == NO_ELEMENT), 1.0, kept.z > 0.0);
            } else {
                tint = 0.0;
            }
        }
        default: {}
    }
    let has_nearest = seen.nearest <= flock.reach;
    let nearest_way = select(-1.0, sqrt(seen.nearest), has_nearest);
    let to_row = nth * BEARING_ROWS;
    bearings[to_row] = vec4(velocity, bank);
    bearings[to_row + 1u] = vec4(way, tint, new_alarm, seen.gathered);
    bearings[to_row + 2u] = vec4(kept.zw, nearest_way, rule);

    // What the flock is like: gauges.rs.
    let middle = vec3(
        bitcast<f32>(atomicLoad(&counters[MIDDLE])),
        bitcast<f32>(atomicLoad(&counters[MIDDLE + 1u])),
        bitcast<f32>(atomicLoad(&counters[MIDDLE + 2u])),
    );
    let new_speed = length(new_velocity);
    let direction = new_velocity / max(new_speed, 1e-12);
    let from_middle = own.at - middle;
    headings[lane] = vec4(direction, new_speed);
    middles[lane] = vec4(from_middle, select(0.0, nearest_way, has_nearest));
    turns[lane] = vec4(cross(from_middle, direction) / max(length(from_middle), 1e-12), select(0.0, 1.0, has_nearest));
    pairs[lane] = vec3(tested, u32(seen.near), crowded);
    // The first of its cell counts it.
    let run = cells[cell_number(flock.grid, cell)];
    if run.x == nth {
        atomicMax(&counters[FULLEST], run.y - run.x);
        atomicAdd(&counters[CELLS_USED], 1u);
    }
}

@compute @workgroup_size(256)
fn sum_up(@builtin(local_invocation_index) lane: u32) {
    let live = flock_size();
    let groups = (live + GROUP - 1u) / GROUP;
    headings[lane] = vec4(0.0);
    middles[lane] = vec4(0.0);
    turns[lane] = vec4(0.0);
    for (var k = lane; k < groups; k += GROUP) {
        let row = k * SUM_ROWS;
        headings[lane] += sums[row];
        middles[lane] += sums[row + 1u];
        turns[lane] += sums[row + 2u];
        let counts = bitcast<vec4<u32>>(sums[row + 3u]);
        add_wide(TESTED, counts.x);
        add_wide(NEIGHBOURS, counts.y);
        atomicAdd(&counters[CROWDED], counts.z);
    }
    workgroupBarrier();
    for (var half = GROUP / 2u; half > 0u; half /= 2u) {
        if lane < half {
            headings[lane] += headings[lane + half];
            middles[lane] += middles[lane + half];
            turns[lane] += turns[lane + half];
        }
        workgroupBarrier();
    }
    if lane > 0u {
        return;
    }
    let each = 1.0 / max(f32(live), 1.0);
    store(GAUGES, length(headings[0].xyz) * each);
    store(GAUGES + 1u, length(turns[0].xyz) * each);
    store(GAUGES + 2u, middles[0].w / max(turns[0].w, 1.0));
    store(GAUGES + 3u, headings[0].w * each);
    for (var axis = 0u; axis < 3u; axis++) {
        let before = bitcast<f32>(atomicLoad(&counters[MIDDLE + axis]));
        store(MIDDLE + axis, before + middles[0][axis] * each);
    }
}

fn store(word: u32, value: f32) {
    atomicStore(&counters[word], bitcast<u32>(value));
}

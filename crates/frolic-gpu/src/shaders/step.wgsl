// One fixed step of particles on the device. Four dispatches for each shard:
//
//   mark     counts the survivors of each group
//   scan     prefix sums, room for newborns, indirect calls
//   advance  fields, integration, obstacles, ageing; writes survivors in order to the other copy
//   give_birth
//
// The formulas are those of frolic-core/src/world/bodies. How an element moves is in moves.wgsl.

@group(0) @binding(3) var<storage, read> places: array<vec4<u32>>;
@group(0) @binding(4) var<storage, read> motions: array<vec4<u32>>;
@group(0) @binding(5) var<storage, read> ages: array<vec2<f32>>;
@group(0) @binding(10) var<storage, read> emitters: array<Emitter>;
@group(0) @binding(11) var<uniform> events: array<Event, 8>;
@group(2) @binding(1) var<storage, read> newborn: array<Newborn>;

// Age of an element that ended in the step of its birth, in seconds.
const ENDED: f32 = 2e30;

// A newborn after the rest of its step: `Chunk::grow_up` of frolic-core/src/world/bodies/births.rs.
fn grown_up(place: vec3<f32>, velocity: vec3<f32>, age: f32, meets: bool) -> Moved {
    let acting = sum_fields(place, velocity);
    let keep = exp(-0.5 * step.drag * age);
    let turns = step.drag * age;
    let reach = select(0.5 * age * (1.0 - 0.25 * turns), (1.0 - keep) / step.drag, turns > 1e-3);
    let way = after(acting, velocity, keep, reach);
    var to: Moved;
    to.velocity = way;
    to.at = place + way * age;
    if (FEATURES & HAS_SHAPES) != 0u {
        hold_on(&to);
    }
    if meets {
        seconds = age;
        encounter(place, false, &to);
    }
    if all(to.velocity == way) {
        to.velocity = before_birth(acting, after(acting, way, keep, reach));
    }
    return to;
}

fn moved_at(nth: u32, meets: bool) -> Moved {
    let place = bitcast<vec3<f32>>(places[nth].xyz);
    return moved(place, bitcast<vec3<f32>>(motions[nth].xyz), ages[nth].x == 0.0, meets);
}

fn is_in(e: Event, place: vec3<f32>) -> bool {
    let off = place - e.region;
    if e.kind == ON_ENTER_BALL {
        return dot(off, off) < e.region_radius * e.region_radius;
    }
    return all(abs(off) < e.region_half);
}

// Whether an event happens to an element that survives the step, or ends in it.
fn happens(e: Event, nth: u32, to: Moved, outlives: bool) -> bool {
    let stays = outlives && !to.picked && !to.dies;
    switch e.kind {
        // Not for elements that an obstacle or a collector ended in the step of their birth.
        case ON_DEATH: { return !outlives && ages[nth].x < 1e30; }
        case ON_HIT: { return to.hit && to.into >= e.level; }
        case ON_COLLECTED: { return to.picked; }
        case ON_AGE: {
            let age = ages[nth].x + step.dt;
            return stays && age >= e.level && age - step.dt < e.level;
        }
        case ON_ENTER_BALL, ON_ENTER_BOX: {
            return stays && is_in(e, to.at) && !is_in(e, to.at - to.velocity * step.dt);
        }
        default: { return false; }
    }
}

fn outlives(nth: u32) -> bool {
    let age = ages[nth];
    return !(age.x + step.dt >= age.y);
}

@compute @workgroup_size(256)
fn mark(
    @builtin(workgroup_id) group: vec3<u32>,
    @builtin(num_workgroups) groups: vec3<u32>,
    @builtin(local_invocation_index) lane: u32,
) {
    let nth = thread(group, groups, lane);
    let live = atomicLoad(&counters[step.counters + LIVE + step.parity]);
    let there = nth < live;
    let lasts = there && outlives(nth);
    var kept = lasts;
    var to: Moved;
    if (EVENTS > 0u && there) || (ENDS_LIVES && lasts) {
        to = moved_at(nth, lasts);
        kept = lasts && !to.picked && !to.dies;
    }
    let rank = rank_in_group(lane, kept);
    if lane == 0u && nth < live {
        blocks[nth / GROUP] = rank.all;
    }
    for (var k = 0u; k < EVENTS; k++) {
        var started = 0u;
        if there && happens(events[k], nth, to, lasts) {
            started = started_by(events[k], motions[nth].w);
        }
        note_group(events[k], lane, nth / GROUP, standing(lane, started));
    }
}

@compute @workgroup_size(256)
fn scan(@builtin(local_invocation_index) lane: u32) {
    let live = atomicLoad(&counters[step.counters + LIVE + step.parity]);
    let survivors = add_blocks(lane, 0u, (live + GROUP - 1u) / GROUP);
    for (var k = 0u; k < EVENTS; k++) {
        sum_event(events[k], lane, (live + GROUP - 1u) / GROUP);
    }
    if lane != 0u {
        return;
    }
    if step.is_first != 0u {
        atomicStore(&counters[LEFT], step.due);
        atomicAdd(&counters[STEPS], 1u);
    }
    let left = atomicLoad(&counters[LEFT]);
    let born = min(left, step.capacity - survivors);
    atomicStore(&counters[step.counters + SURVIVORS], survivors);
    atomicStore(&counters[step.counters + BORN], born);
    atomicStore(&counters[step.counters + FIRST_BIRTH], step.due - left);
    atomicStore(&counters[step.counters + FOLLOW_TO], survivors);
    atomicStore(&counters[next_live()], survivors + born);
    atomicStore(&counters[LEFT], left - born);
    atomicAdd(&counters[EMITTED], born);
    atomicAdd(&counters[EVENTS_COUNTED], born * step.birth_events);
    atomicAdd(&counters[RETIRED], live - survivors);
    if step.is_last != 0u {
        atomicAdd(&counters[REFUSED], left - born);
    }
    write_calls(survivors + born);
}

@compute @workgroup_size(256)
fn advance(
    @builtin(workgroup_id) group: vec3<u32>,
    @builtin(num_workgroups) groups: vec3<u32>,
    @builtin(local_invocation_index) lane: u32,
) {
    let nth = thread(group, groups, lane);
    let live = atomicLoad(&counters[step.counters + LIVE + step.parity]);
    let there = nth < live;
    let lasts = there && outlives(nth);
    var kept = lasts;
    var to: Moved;
    if lasts || (EVENTS > 0u && there) {
        to = moved_at(nth, lasts);
        if to.hit {
            atomicAdd(&counters[HITS], 1u);
        }
        if ENDS_LIVES && to.picked {
            atomicAdd(&counters[COLLECTED], 1u);
            atomicAdd(&counters[COLLECTED_BY + to.by], 1u);
        }
        kept = lasts && !to.picked && !to.dies;
    }
    let rank = rank_in_group(lane, kept);
    if kept {
        let at = blocks[nth / GROUP] + rank.before;
        next_places[at] = vec4(bitcast<vec3<u32>>(to.at), places[nth].w);
        next_motions[at] = vec4(bitcast<vec3<u32>>(to.velocity), motions[nth].w);
        next_ages[at] = vec2(ages[nth].x + step.dt, ages[nth].y);
        if TRAILS {
            blocks[was_at(at)] = nth;
        }
    }
    for (var k = 0u; k < EVENTS; k++) {
        var started = 0u;
        if there && happens(events[k], nth, to, lasts) {
            atomicAdd(&counters[EVENTS_COUNTED], 1u);
            started = started_by(events[k], motions[nth].w);
        }
        let s = standing(lane, started);
        if started > 0u {
            let size = bitcast<f32>(places[nth].w);
            note(events[k], nth / GROUP, s, Record(to.at, size, to.velocity, motions[nth].w, to.normal, 0u));
        }
    }
}

// A random direction of an emitter's aim.
fn direction_of(emitter: Emitter, random: vec3<f32>) -> vec3<f32> {
    let aim = emitter.aim;
    if emitter.is_fan != 0u {
        return fan(aim.z, aim.x, emitter.inner, aim.rim, random.x);
    }
    return cap(aim.x, aim.y, aim.z, random.x, random.y, emitter.inner, aim.rim);
}

@compute @workgroup_size(256)
fn give_birth(
    @builtin(workgroup_id) group: vec3<u32>,
    @builtin(num_workgroups) groups: vec3<u32>,
    @builtin(local_invocation_index) lane: u32,
) {
    let nth = thread(group, groups, lane);
    if nth >= atomicLoad(&counters[step.counters + BORN]) {
        return;
    }
    let birth = atomicLoad(&counters[step.counters + FIRST_BIRTH]) + nth;
    let id = step.first_id + atomicLoad(&counters[STARTED]) + birth;
    var which = 0u;
    while which + 1u < step.emitters && emitters[which + 1u].begins <= birth {
        which++;
    }
    let emitter = emitters[which];
    let to = atomicLoad(&counters[step.counters + SURVIVORS]) + nth;
    if emitter.shape == SHAPE_WRITTEN {
        let row = newborn[step.first_row + emitter.row + birth - emitter.begins];
        let place = vec4(bitcast<vec3<u32>>(row.place), bitcast<u32>(row.size));
        write_newborn(to, place, vec4(bitcast<vec3<u32>>(row.velocity), row.id), vec2(row.age, row.life));
        return;
    }
    let order = f32(birth - emitter.begins);
    let old = clamp(emitter.first_age - order * emitter.age_step, 0.0, step.dt);
    let age = select(old, 0.0, old < 1e-4 * step.dt);
    let where_random = unit(hash3(vec3(step.seed, id, 0u)));
    let way_random = unit(hash3(vec3(step.seed, id, 1u)));
    let life_random = unit(hash3(vec3(step.seed, id, 2u)));
    let velocity = direction_of(emitter, way_random) * speed(emitter.aim, way_random.z) + emitter.velocity * emitter.keep_velocity;
    let off = spot(emitter.shape, emitter.aim, where_random);
    let at = emitter.position - emitter.velocity * age + off;
    let size = step.size.x + (step.size.y - step.size.x) * life_random.y;
    let life = step.life.x + (step.life.y - step.life.x) * life_random.x;
    let place = vec4(bitcast<vec3<u32>>(at), bitcast<u32>(size));
    write_newborn(to, place, vec4(bitcast<vec3<u32>>(velocity), id), vec2(age, life));
}

// Writes a newborn, given at its moment of birth, as it is at the end of the step. One that ends before stays for this step, invisible.
fn write_newborn(nth: u32, place: vec4<u32>, motion: vec4<u32>, ages: vec2<f32>) {
    var to: Moved;
    to.at = bitcast<vec3<f32>>(place.xyz);
    to.velocity = bitcast<vec3<f32>>(motion.xyz);
    var age = ages.x;
    if age > 0.0 {
        to = grown_up(to.at, to.velocity, age, age < ages.y);
        if to.hit {
            atomicAdd(&counters[HITS], 1u);
        }
        if ENDS_LIVES && to.picked {
            atomicAdd(&counters[COLLECTED], 1u);
            atomicAdd(&counters[COLLECTED_BY + to.by], 1u);
        }
        if to.picked || to.dies {
            age = ENDED;
        }
    }
    next_places[nth] = vec4(bitcast<vec3<u32>>(to.at), place.w);
    next_motions[nth] = vec4(bitcast<vec3<u32>>(to.velocity), motion.w);
    next_ages[nth] = vec2(age, ages.y);
}

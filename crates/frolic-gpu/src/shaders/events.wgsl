// Starts elements by the events of a step, after all populations of a set have taken it. For each event:
//
//   (turn, mark_births, add_births, tell_births   records of newborns since the last round)
//   grant    number of started elements that find room, and their ids
//   start    writes them after the live elements
//
// `counters`, `step` and the columns belong to the started population, but for births to the parent; `blocks` always belong to the
// parent.

@group(0) @binding(12) var<uniform> event: Event;

// Starts a round: it follows the newborns since the last one.
@compute @workgroup_size(1)
fn turn() {
    let now = atomicLoad(&counters[next_live()]);
    let before = atomicLoad(&counters[step.counters + FOLLOW_TO]);
    atomicStore(&counters[step.counters + FOLLOW_FROM], before);
    atomicStore(&counters[step.counters + FOLLOW_TO], now);
}

fn is_followed(nth: u32) -> bool {
    return nth >= atomicLoad(&counters[step.counters + FOLLOW_FROM]) && nth < atomicLoad(&counters[step.counters + FOLLOW_TO]);
}

// Number of elements that the birth of an element starts, if this round follows it.
fn started_by_birth(nth: u32) -> u32 {
    if is_followed(nth) {
        return started_by(event, next_motions[nth].w);
    }
    return 0u;
}

@compute @workgroup_size(256)
fn mark_births(
    @builtin(workgroup_id) group: vec3<u32>,
    @builtin(num_workgroups) groups: vec3<u32>,
    @builtin(local_invocation_index) lane: u32,
) {
    let nth = thread(group, groups, lane);
    note_group(event, lane, nth / GROUP, standing(lane, started_by_birth(nth)));
}

@compute @workgroup_size(256)
fn add_births(@builtin(local_invocation_index) lane: u32) {
    sum_event(event, lane, (atomicLoad(&counters[next_live()]) + GROUP - 1u) / GROUP);
}

@compute @workgroup_size(256)
fn tell_births(
    @builtin(workgroup_id) group: vec3<u32>,
    @builtin(num_workgroups) groups: vec3<u32>,
    @builtin(local_invocation_index) lane: u32,
) {
    let nth = thread(group, groups, lane);
    let started = started_by_birth(nth);
    let s = standing(lane, started);
    if started > 0u {
        let place = next_places[nth];
        let motion = next_motions[nth];
        let at = bitcast<vec3<f32>>(place.xyz);
        let velocity = bitcast<vec3<f32>>(motion.xyz);
        note(event, nth / GROUP, s, Record(at, bitcast<f32>(place.w), velocity, motion.w, vec3(0.0), 0u));
    }
}

@compute @workgroup_size(1)
fn grant() {
    let sums = sums_of(event);
    let wanted = blocks[sums + WANTED];
    let live = atomicLoad(&counters[next_live()]);
    let given = min(min(wanted, event.most), step.capacity - live);
    let before = atomicAdd(&counters[STARTED], given);
    blocks[sums + GIVEN] = given;
    blocks[sums + FIRST_PLACE] = live;
    blocks[sums + FIRST_ID] = step.first_id + step.due + before;
    atomicStore(&counters[next_live()], live + given);
    atomicAdd(&counters[EMITTED], given);
    atomicAdd(&counters[EVENTS_COUNTED], given * step.birth_events);
    atomicAdd(&counters[REFUSED], wanted - given);
    write_calls(live + given);
}

// Duff et al., "Building an Orthonormal Basis, Revisited" (2017).
fn basis(z: vec3<f32>) -> array<vec3<f32>, 2> {
    let sign = select(1.0, -1.0, (bitcast<u32>(z.z) >> 31u) != 0u);
    let a = -1.0 / (sign + z.z);
    let b = z.x * z.y * a;
    return array(vec3(1.0 + sign * z.x * z.x * a, sign * b, -sign * z.x), vec3(b, sign + z.y * z.y * a, -z.y));
}

fn unit_or(v: vec3<f32>, otherwise: vec3<f32>) -> vec3<f32> {
    let long = length(v);
    if long > 0.0 && long < 1e30 {
        return v / long;
    }
    return otherwise;
}

@compute @workgroup_size(256)
fn start(
    @builtin(workgroup_id) group: vec3<u32>,
    @builtin(num_workgroups) groups: vec3<u32>,
    @builtin(local_invocation_index) lane: u32,
) {
    let nth = thread(group, groups, lane);
    let sums = sums_of(event);
    if nth >= blocks[sums + GIVEN] {
        return;
    }
    // The last record whose first element is not after this one.
    var low = 0u;
    var high = min(blocks[sums + RECORDED], event.room);
    while high - low > 1u {
        let middle = (low + high) / 2u;
        if read_record(record_at(event, middle)).before <= nth {
            low = middle;
        } else {
            high = middle;
        }
    }
    let parent = read_record(record_at(event, low));
    let id = blocks[sums + FIRST_ID] + nth;
    let where_random = unit(hash3(vec3(step.seed, id, 0u)));
    let way_random = unit(hash3(vec3(step.seed, id, 1u)));
    let life_random = unit(hash3(vec3(step.seed, id, 2u)));
    var x = event.aim.x;
    var y = event.aim.y;
    var z = event.aim.z;
    if event.aim_by != AIM_WORLD {
        z = unit_or(select(parent.normal, parent.velocity, event.aim_by == AIM_VELOCITY), vec3(0.0, 1.0, 0.0));
        let sides = basis(z);
        x = sides[0];
        y = sides[1];
    }
    var way: vec3<f32>;
    if event.is_fan != 0u {
        let middle = unit_or(z - event.fan * dot(z, event.fan), z);
        way = fan(middle, cross(event.fan, middle), event.fan_min, event.fan_max, way_random.x);
    } else {
        way = cap(x, y, z, way_random.x, way_random.y, event.inner, event.aim.rim);
    }
    let velocity = way * speed(event.aim, way_random.z) + parent.velocity * event.keep_velocity;
    let at = parent.place + spot(event.shape, event.aim, where_random);
    var size = step.size.x + (step.size.y - step.size.x) * life_random.y;
    if event.is_sized != 0u {
        size = parent.size * (event.size_min + (event.size_max - event.size_min) * life_random.y);
    }
    let life = step.life.x + (step.life.y - step.life.x) * life_random.x;
    let to = blocks[sums + FIRST_PLACE] + nth;
    next_places[to] = vec4(bitcast<vec3<u32>>(at), bitcast<u32>(size));
    next_motions[to] = vec4(bitcast<vec3<u32>>(velocity), id);
    next_ages[to] = vec2(0.0, life);
}

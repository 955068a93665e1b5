// What events note, and where: frolic-core/src/world/events.rs. An event has a stretch of `blocks`: how many elements it starts and how many start
// any, by groups; sums; then those that start any, in order.

struct Event {
    // What happens; its number; the seed of its draws; most that it starts in a step.
    kind: u32, number: u32, seed: u32, most: u32,
    // How many each time; how often; the speed of a hit, m/s, or the age, s.
    least: f32, greatest: f32, chance: f32, level: f32,
    // Middle and radius, or half the size, of a region; whether it starts anything.
    region: vec4<f32>,
    half: vec3<f32>, starts: u32,
    // What its aim is measured from: 0 the world, 1 the velocity, 2 away from what was hit. Kind of shape; whether it is a fan, and sized.
    aim_by: u32, shape: u32, is_fan: u32, is_sized: u32,
    aim: Aim,
    inner: f32, keep_velocity: f32, size_least: f32, size_greatest: f32,
    // What a fan stands upright on; where its stretch starts.
    fan: vec3<f32>, stretch: u32,
    // Groups of elements; most that are noted; of a fan, in turns.
    groups: u32, room: u32, fan_least: f32, fan_most: f32,
    spare: array<vec4<f32>, 2>,
}

const ON_BIRTH: u32 = 0u;
const ON_DEATH: u32 = 1u;
const ON_HIT: u32 = 2u;
const ON_CAUGHT: u32 = 3u;
const ON_AGE: u32 = 4u;
const ON_ENTER_BALL: u32 = 5u;
const ON_ENTER_BOX: u32 = 6u;

// Words of sums: all that it would start; how many start any; how many find room; the place and the number of the first.
const WANTED: u32 = 0u;
const NOTED: u32 = 1u;
const GIVEN: u32 = 2u;
const FIRST_PLACE: u32 = 3u;
const FIRST_ID: u32 = 4u;

struct Noted {
    place: vec3<f32>,
    size: f32,
    velocity: vec3<f32>,
    id: u32,
    normal: vec3<f32>,
    // Started by those before it.
    before: u32,
}

fn sums_of(e: Event) -> u32 {
    return e.stretch + e.groups * 2u;
}

fn noted_at(e: Event, nth: u32) -> u32 {
    return sums_of(e) + 8u + nth * 12u;
}

// How many elements it starts when it happens to an element.
fn started_by(e: Event, id: u32) -> u32 {
    let dice = unit(hash3(vec3(e.seed, id, e.number)));
    if e.starts == 0u || dice.x >= e.chance {
        return 0u;
    }
    let wanted = e.least + (e.greatest - e.least) * dice.y;
    return u32(floor(wanted)) + select(0u, 1u, wanted - floor(wanted) > dice.z);
}

// Where an element stands among those that start any: `before` of these, and of what they start.
struct Standing {
    noted: Rank,
    started: Rank,
}

var<workgroup> any_starts: u32;

// Call it from uniform control flow.
fn standing(lane: u32, started: u32) -> Standing {
    var s: Standing;
    s.noted = rank_in_group(lane, started > 0u);
    if lane == 0u {
        any_starts = s.noted.all;
    }
    if workgroupUniformLoad(&any_starts) > 0u {
        s.started = sum_in_group(lane, started);
    }
    return s;
}

// Adds a group's sums to the event's stretch.
fn note_group(e: Event, lane: u32, group: u32, s: Standing) {
    if lane == 0u && group < e.groups {
        blocks[e.stretch + group] = s.started.all;
        blocks[e.stretch + e.groups + group] = s.noted.all;
    }
}

// Adds up the groups of an event. For one group of threads, from uniform control flow.
fn sum_event(e: Event, lane: u32, groups: u32) {
    let wanted = add_blocks(lane, e.stretch, groups);
    let noted = add_blocks(lane, e.stretch + e.groups, groups);
    if lane == 0u {
        blocks[sums_of(e) + WANTED] = wanted;
        blocks[sums_of(e) + NOTED] = noted;
    }
}

// Notes an element that starts some, once the groups were added up.
fn note(e: Event, group: u32, s: Standing, what: Noted) {
    let nth = blocks[e.stretch + e.groups + group] + s.noted.before;
    if nth >= e.room {
        return;
    }
    let at = noted_at(e, nth);
    let place = bitcast<vec3<u32>>(what.place);
    let velocity = bitcast<vec3<u32>>(what.velocity);
    let normal = bitcast<vec3<u32>>(what.normal);
    for (var k = 0u; k < 3u; k++) {
        blocks[at + k] = place[k];
        blocks[at + 4u + k] = velocity[k];
        blocks[at + 8u + k] = normal[k];
    }
    blocks[at + 3u] = bitcast<u32>(what.size);
    blocks[at + 7u] = what.id;
    blocks[at + 11u] = saturated(blocks[e.stretch + group], s.started.before);
}

fn read_noted(e: Event, nth: u32) -> Noted {
    let at = noted_at(e, nth);
    var w: array<u32, 12>;
    for (var k = 0u; k < 12u; k++) {
        w[k] = blocks[at + k];
    }
    return Noted(
        bitcast<vec3<f32>>(vec3(w[0], w[1], w[2])),
        bitcast<f32>(w[3]),
        bitcast<vec3<f32>>(vec3(w[4], w[5], w[6])),
        w[7],
        bitcast<vec3<f32>>(vec3(w[8], w[9], w[10])),
        w[11],
    );
}

// One fixed step of a population that lives on the device. Four dispatches a shard:
//
//   mark     who outlives the step, counted by groups
//   settle   add the groups up, see how many of the newborn find room, write the next calls
//   advance  fields, integration, obstacles, ageing; survivors go to their places in the other buffers, in order
//   give_birth
//
// The formulas are those of frolic-core/src/particles.

struct Obstacle {
    // As frolic_core::backend::Convex has them.
    place: vec4<f32>,
    more: vec4<f32>,
    // Kind; restitution; friction.
    kind: vec4<f32>,
}

struct Ball {
    // Middle at the end of the step, and radius; how far it has come.
    to: vec4<f32>,
    moved: vec4<f32>,
}

struct Field {
    // As frolic_core::backend::Felt has them; the kind is the fourth of `b`.
    middle: vec4<f32>,
    a: vec4<f32>,
    b: vec4<f32>,
}

struct Wave {
    // Turns a metre and at the origin; what is left of a crest, times sixteen.
    turns: vec4<f32>,
    push: vec4<f32>,
}

struct Step {
    dt: f32, keep: f32, reach: f32, drag: f32,
    // What is the same everywhere; who is slower than the fourth may come to lie.
    push: vec4<f32>,
    gust_origin: vec4<f32>,
    // Strength of gusts; of the attractor, and its radius.
    strengths: vec4<f32>,
    attractor: vec4<f32>,
    life: vec2<f32>, size: vec2<f32>,
    seed: u32, due: u32, emitters: u32, capacity: u32,
    // Where its words in the book start; 0 or 1, which of two states is read; whether the population's first, last shard.
    book: u32, parity: u32, is_first: u32, is_last: u32,
    // Vertices of an instance; how many obstacles and collectors.
    span: u32, obstacles: u32, collectors: u32, spare: u32,
    solid: array<Obstacle, 16>,
    collector: array<Ball, 16>,
    // Steady wind and drag of the square; gravity and how many fields there are; 1 for each free axis and whether speeds are limited; how.
    wind: vec4<f32>,
    fall: vec4<f32>,
    free: vec4<f32>,
    limits: vec4<f32>,
    field: array<Field, 16>,
    wave: array<Wave, 16>,
}

struct Emitter {
    // Births before those of this one; how old its first is, s; how much younger each next one; kind of shape.
    first: f32, first_age: f32, age_step: f32, shape: u32,
    // Where it is at the end of the step, with the cosine of the aim's inner rim; its velocity, with the share that is handed down.
    position: vec4<f32>,
    velocity: vec4<f32>,
    // Axes of the aim, with the cosine of its rim and lowest and highest speed. Of a fan: side, nothing, middle; angles, in turns, for
    // cosines.
    aim_x: vec4<f32>,
    aim_y: vec4<f32>,
    aim_z: vec4<f32>,
    // Axes of the face, with the size of the shape.
    face_x: vec4<f32>,
    face_y: vec4<f32>,
    face_z: vec4<f32>,
    begins: u32, is_fan: u32, spare_a: u32, spare_b: u32,
}

@group(0) @binding(0) var<uniform> step: Step;
@group(0) @binding(1) var<storage, read_write> book: array<atomic<u32>>;
@group(0) @binding(2) var<storage, read_write> blocks: array<u32>;
@group(0) @binding(3) var<storage, read> places: array<vec4<u32>>;
@group(0) @binding(4) var<storage, read> motions: array<vec4<u32>>;
@group(0) @binding(5) var<storage, read> ages: array<vec2<f32>>;
@group(0) @binding(6) var<storage, read_write> next_places: array<vec4<u32>>;
@group(0) @binding(7) var<storage, read_write> next_motions: array<vec4<u32>>;
@group(0) @binding(8) var<storage, read_write> next_ages: array<vec2<f32>>;
@group(0) @binding(9) var<storage, read_write> calls: array<u32>;
@group(0) @binding(10) var<storage, read> emitters: array<Emitter>;

// Words of a shard: alive in either state, survivors, newborn, the first of them by id and by birth.
const LIVE: u32 = 0u;
const SURVIVORS: u32 = 2u;
const BORN: u32 = 3u;
const FIRST_ID: u32 = 4u;
const FIRST_BIRTH: u32 = 5u;
// Words of the population, before its shards'.
const LEFT: u32 = 0u;
const NEXT_ID: u32 = 1u;
const EMITTED: u32 = 2u;
const REFUSED: u32 = 3u;
const RETIRED: u32 = 4u;
const HITS: u32 = 5u;
const PICKED: u32 = 6u;
const STEPS: u32 = 7u;
// The first of sixteen, one a collector.
const CAUGHT: u32 = 16u;

// Bits of `FIELDS`: what there is in the world. A pipeline is made for it, so that what is not there costs nothing.
const GUSTS: u32 = 1u;
const ATTRACTOR: u32 = 2u;
const OBSTACLES: u32 = 4u;
const BY_FIELDS: u32 = 8u;

struct Moved {
    at: vec3<f32>,
    velocity: vec3<f32>,
    // Whether it touched anything, and whether it came towards it.
    touched: bool,
    hit: bool,
    picked: bool,
    // The collector that did.
    by: u32,
}

// An element that comes this near has touched; one that lies on something stays this near, m.
const SKIN: f32 = 1e-4;
const HELD: f32 = 1e-3;
const MOST_TOUCHES: u32 = 6u;

fn from_ball(off: vec3<f32>, radius: f32) -> vec4<f32> {
    let far = length(off);
    return vec4(select(vec3(0.0, 1.0, 0.0), off / far, far > 1e-9), far - radius);
}

// The direction away from an obstacle, and the signed distance to it.
fn sample(k: u32, p: vec3<f32>) -> vec4<f32> {
    let place = step.solid[k].place;
    let more = step.solid[k].more;
    switch u32(step.solid[k].kind.x) {
        case 0u: { return vec4(place.xyz, dot(p, place.xyz) - place.w); }
        case 1u: { return from_ball(p - place.xyz, place.w); }
        case 2u: {
            let off = vec3(p.x - place.x, 0.0, p.z - place.z);
            let far = length(off);
            return vec4(select(vec3(1.0, 0.0, 0.0), off / far, far > 1e-9), far - place.w);
        }
        case 3u: {
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

fn respond(k: u32, velocity: vec3<f32>, normal: vec3<f32>) -> vec3<f32> {
    let into = dot(velocity, normal);
    if into >= 0.0 {
        return velocity;
    }
    let kind = step.solid[k].kind;
    return (velocity - normal * into) * (1.0 - kind.z) - normal * (into * kind.y);
}

fn touch(to: ptr<function, Moved>, normal: vec3<f32>) {
    if !(*to).touched {
        (*to).touched = true;
        (*to).hit = -dot((*to).velocity, normal) > 0.0;
    }
}

fn bring_out(to: ptr<function, Moved>) {
    for (var turn = 0u; turn < 8u; turn++) {
        var is_out = true;
        for (var k = 0u; k < step.obstacles; k++) {
            let there = sample(k, (*to).at);
            if there.w < 0.0 {
                touch(to, there.xyz);
                (*to).at -= there.xyz * (there.w - SKIN * f32(turn + 1u) * 0.5);
                (*to).velocity = respond(k, (*to).velocity, there.xyz);
                is_out = false;
            }
        }
        if is_out {
            return;
        }
    }
    (*to).velocity = vec3(0.0);
}

// Where a straight way first meets an obstacle, and the direction away from it; a share over 1 if nowhere. Newton's steps on a convex
// distance.
fn first_touch(k: u32, start: vec3<f32>, way: vec3<f32>) -> vec4<f32> {
    let along = length(way) * 1e-5;
    var at = 0.0;
    for (var turn = 0u; turn < 16u; turn++) {
        let there = sample(k, start + way * at);
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

// What is in the way of an element that goes from `start` with the velocity of `to`: frolic-core/src/obstacles/meet.rs.
fn meet(start: vec3<f32>, rested: bool, to: ptr<function, Moved>) {
    let speed = length((*to).velocity);
    var clear = 1e30;
    var inside = false;
    for (var k = 0u; k < step.obstacles; k++) {
        let there = sample(k, start);
        if speed <= step.push.w && step.solid[k].kind.z > 0.0 && there.w >= 0.0 && there.w <= HELD {
            if rested || dot((*to).velocity, there.xyz) <= -0.5 * speed {
                (*to).at = start;
                (*to).velocity = vec3(0.0);
                return;
            }
        }
        inside = inside || there.w < 0.0;
        clear = min(clear, there.w);
    }
    if !inside && clear > speed * step.dt + SKIN {
        return;
    }
    let moved_to = (*to).at;
    (*to).at = start;
    if inside {
        bring_out(to);
    }
    var left = step.dt;
    for (var turn = 0u; turn < MOST_TOUCHES; turn++) {
        let way = (*to).velocity * left;
        var first = vec4(0.0, 0.0, 0.0, 2.0);
        var which = 0u;
        for (var k = 0u; k < step.obstacles; k++) {
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
        touch(to, first.xyz);
        (*to).velocity = respond(which, (*to).velocity, first.xyz);
    }
    if !(*to).touched {
        (*to).at = moved_to;
        return;
    }
    if left > 0.0 {
        (*to).velocity *= 1.0 - left / step.dt;
    }
    bring_out(to);
}

// Velocity after a step in which fields are felt one by one: `Chunk::advance_by_fields` of frolic-core/src/particles/step.rs.
fn by_fields(place: vec3<f32>, velocity: vec3<f32>) -> vec3<f32> {
    var air = step.wind.xyz;
    var push = step.fall.xyz;
    if (FIELDS & GUSTS) != 0u {
        air += gust_noise(place * step.gust_origin.w - step.gust_origin.xyz, GUST_SEED) * step.strengths.x;
    }
    for (var k = 0u; k < u32(step.fall.w); k++) {
        let felt = step.field[k];
        let off = place - felt.middle.xyz;
        let left = max(1.0 - dot(off, off) * felt.middle.w, 0.0);
        let share = left * left;
        switch u32(felt.b.w) {
            case 0u: { push += felt.a.xyz * share; }
            case 1u: { air += felt.a.xyz * share; }
            case 2u: {
                let r2 = dot(off, off) + felt.a.y * felt.a.y;
                var pull = felt.a.x;
                switch u32(felt.a.z) {
                    case 0u: { pull /= r2 * sqrt(r2); }
                    case 1u: { pull /= r2; }
                    case 2u: { pull /= sqrt(r2); }
                    default: {}
                }
                push -= off * (pull * share);
            }
            case 3u: {
                let axis = felt.a.xyz;
                let out = off - axis * dot(off, axis);
                let near = share / (1.0 + dot(out, out) * felt.a.w);
                air += cross(axis, out) * (felt.b.x * near) - out * (felt.b.y * near) + axis * (felt.b.z * near);
            }
            default: {
                let first = u32(felt.a.x);
                for (var n = first; n < first + u32(felt.a.y); n++) {
                    let wave = step.wave[n];
                    let turns = dot(place, wave.turns.xyz) + wave.turns.w;
                    let t = turns - round(turns);
                    air += wave.push.xyz * (t * (0.5 - abs(t)) * share);
                }
            }
        }
    }
    let through = velocity - air;
    let slow = 1.0 / (1.0 + step.wind.w * length(through) * step.reach);
    var now = (air + through * (step.keep * slow) + push * (step.reach * slow)) * step.free.xyz;
    let speed = length(now);
    if step.free.w > 0.0 && speed > 0.0 {
        now *= min(max(speed, step.limits.x), step.limits.y) / speed;
    }
    return now;
}

fn moved(place: vec3<f32>, velocity: vec3<f32>) -> Moved {
    var a = step.push.xyz;
    if (FIELDS & GUSTS) != 0u {
        let gust = gust_noise(place * step.gust_origin.w - step.gust_origin.xyz, GUST_SEED);
        a += gust * (step.strengths.x * step.drag);
    }
    if (FIELDS & ATTRACTOR) != 0u {
        let d = step.attractor.xyz - place;
        let r2 = dot(d, d) + step.strengths.z * step.strengths.z;
        a += d * (step.strengths.y / (r2 * sqrt(r2)));
    }
    var to: Moved;
    to.velocity = velocity * step.keep + a * step.reach;
    if (FIELDS & BY_FIELDS) != 0u {
        to.velocity = by_fields(place, velocity);
    }
    to.at = place + to.velocity * step.dt;
    if (FIELDS & OBSTACLES) != 0u {
        meet(place, all(velocity == vec3(0.0)), &to);
    }
    for (var k = 0u; COLLECTS && k < step.collectors; k++) {
        // Seen from the ball: where the element ends, and the way it came, if it came straight.
        let end = to.at - step.collector[k].to.xyz;
        let way = select(to.velocity * step.dt, vec3(0.0), to.touched) - step.collector[k].moved.xyz;
        let share = clamp(dot(end, way) / (dot(way, way) + 1e-30), 0.0, 1.0);
        let near = end - way * share;
        let radius = step.collector[k].to.w;
        if !to.picked && dot(near, near) < radius * radius {
            to.picked = true;
            to.by = k;
        }
    }
    return to;
}

fn moved_at(nth: u32) -> Moved {
    return moved(bitcast<vec3<f32>>(places[nth].xyz), bitcast<vec3<f32>>(motions[nth].xyz));
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
    let live = atomicLoad(&book[step.book + LIVE + step.parity]);
    var kept = nth < live && outlives(nth);
    if COLLECTS && kept {
        kept = !moved_at(nth).picked;
    }
    let rank = rank_in_group(lane, kept);
    if lane == 0u && nth < live {
        blocks[nth / GROUP] = rank.all;
    }
}

@compute @workgroup_size(256)
fn settle(@builtin(local_invocation_index) lane: u32) {
    let live = atomicLoad(&book[step.book + LIVE + step.parity]);
    let survivors = add_blocks(lane, (live + GROUP - 1u) / GROUP);
    if lane != 0u {
        return;
    }
    if step.is_first != 0u {
        atomicStore(&book[LEFT], step.due);
        atomicAdd(&book[STEPS], 1u);
    }
    let left = atomicLoad(&book[LEFT]);
    let born = min(left, step.capacity - survivors);
    atomicStore(&book[step.book + SURVIVORS], survivors);
    atomicStore(&book[step.book + BORN], born);
    atomicStore(&book[step.book + FIRST_ID], atomicLoad(&book[NEXT_ID]));
    atomicStore(&book[step.book + FIRST_BIRTH], step.due - left);
    atomicStore(&book[step.book + LIVE + 1u - step.parity], survivors + born);
    atomicStore(&book[LEFT], left - born);
    atomicAdd(&book[NEXT_ID], born);
    atomicAdd(&book[EMITTED], born);
    atomicAdd(&book[RETIRED], live - survivors);
    if step.is_last != 0u {
        atomicAdd(&book[REFUSED], left - born);
    }
    // The next step's dispatch, and the draw of all that live.
    let groups = (survivors + born + GROUP - 1u) / GROUP;
    calls[0] = min(groups, 32768u);
    calls[1] = (groups + 32767u) / 32768u;
    calls[2] = 1u;
    calls[4] = step.span;
    calls[5] = survivors + born;
    calls[6] = 0u;
    calls[7] = 0u;
}

@compute @workgroup_size(256)
fn advance(
    @builtin(workgroup_id) group: vec3<u32>,
    @builtin(num_workgroups) groups: vec3<u32>,
    @builtin(local_invocation_index) lane: u32,
) {
    let nth = thread(group, groups, lane);
    let live = atomicLoad(&book[step.book + LIVE + step.parity]);
    let there = nth < live;
    var kept = there && outlives(nth);
    var to: Moved;
    if kept || (COLLECTS && there) {
        to = moved_at(nth);
        if to.hit {
            atomicAdd(&book[HITS], 1u);
        }
        if COLLECTS && kept && to.picked {
            atomicAdd(&book[PICKED], 1u);
            atomicAdd(&book[CAUGHT + to.by], 1u);
            kept = false;
        }
    }
    let rank = rank_in_group(lane, kept);
    if kept {
        let at = blocks[nth / GROUP] + rank.before;
        next_places[at] = vec4(bitcast<vec3<u32>>(to.at), places[nth].w);
        next_motions[at] = vec4(bitcast<vec3<u32>>(to.velocity), motions[nth].w);
        next_ages[at] = vec2(ages[nth].x + step.dt, ages[nth].y);
    }
}

fn cap(x: vec3<f32>, y: vec3<f32>, z: vec3<f32>, u: f32, v: f32, inner: f32, rim: f32) -> vec3<f32> {
    let cosine = inner - u * (inner - rim);
    let sine = sqrt(max(1.0 - cosine * cosine, 0.0));
    let turn = sin_cos_turn(v);
    return x * (sine * turn.y) + y * (sine * turn.x) + z * cosine;
}

fn cube_root(v: f32) -> f32 {
    if v <= 0.0 {
        return 0.0;
    }
    let y = pow(v, 1.0 / 3.0);
    return y - (y * y * y - v) / (3.0 * y * y);
}

fn spot(from_emitter: Emitter, dice: vec3<f32>) -> vec3<f32> {
    let face_x = from_emitter.face_x.xyz;
    let face_y = from_emitter.face_y.xyz;
    let face_z = from_emitter.face_z.xyz;
    let size = vec3(from_emitter.face_x.w, from_emitter.face_y.w, from_emitter.face_z.w);
    switch from_emitter.shape {
        case 1u: {
            let turn = sin_cos_turn(dice.y);
            return (face_x * turn.y + face_y * turn.x) * (size.x * sqrt(dice.x));
        }
        case 2u: { return cap(face_x, face_y, face_z, dice.x, dice.y, 1.0, -1.0) * (size.x * cube_root(dice.z)); }
        case 3u: { return cap(face_x, face_y, face_z, dice.x, dice.y, 1.0, -1.0) * size.x; }
        case 4u: {
            let off = (dice - 0.5) * size;
            return face_x * off.x + face_y * off.y + face_z * off.z;
        }
        case 5u: { return (face_x * size.x + face_y * size.y + face_z * size.z) * dice.x; }
        case 6u: {
            let turn = sin_cos_turn(dice.y);
            return (face_x * turn.y + face_y * turn.x) * size.x;
        }
        default: { return vec3(0.0); }
    }
}

@compute @workgroup_size(256)
fn give_birth(
    @builtin(workgroup_id) group: vec3<u32>,
    @builtin(num_workgroups) groups: vec3<u32>,
    @builtin(local_invocation_index) lane: u32,
) {
    let nth = thread(group, groups, lane);
    if nth >= atomicLoad(&book[step.book + BORN]) {
        return;
    }
    let birth = atomicLoad(&book[step.book + FIRST_BIRTH]) + nth;
    let id = atomicLoad(&book[step.book + FIRST_ID]) + nth;
    var which = 0u;
    while which + 1u < step.emitters && emitters[which + 1u].begins <= birth {
        which++;
    }
    let emitter = emitters[which];
    let order = f32(birth - emitter.begins);
    let age = clamp(emitter.first_age - order * emitter.age_step, 0.0, step.dt);
    let where_dice = unit(hash3(vec3(step.seed, id, 0u)));
    let way_dice = unit(hash3(vec3(step.seed, id, 1u)));
    let life_dice = unit(hash3(vec3(step.seed, id, 2u)));
    let speed = emitter.aim_y.w + (emitter.aim_z.w - emitter.aim_y.w) * way_dice.z;
    let inner = emitter.position.w;
    let rim = emitter.aim_x.w;
    var way: vec3<f32>;
    if emitter.is_fan != 0u {
        let side = way_dice.x * 2.0 - 1.0;
        let turn = sin_cos_turn((inner + (rim - inner) * abs(side)) * select(1.0, -1.0, side < 0.0));
        way = emitter.aim_z.xyz * turn.y + emitter.aim_x.xyz * turn.x;
    } else {
        way = cap(emitter.aim_x.xyz, emitter.aim_y.xyz, emitter.aim_z.xyz, way_dice.x, way_dice.y, inner, rim);
    }
    let velocity = way * speed + emitter.velocity.xyz * emitter.velocity.w;
    let at = emitter.position.xyz - emitter.velocity.xyz * age + spot(emitter, where_dice) + velocity * age;
    let size = step.size.x + (step.size.y - step.size.x) * life_dice.y;
    let life = step.life.x + (step.life.y - step.life.x) * life_dice.x;
    let to = atomicLoad(&book[step.book + SURVIVORS]) + nth;
    next_places[to] = vec4(bitcast<vec3<u32>>(at), bitcast<u32>(size));
    next_motions[to] = vec4(bitcast<vec3<u32>>(velocity), id);
    next_ages[to] = vec2(age, life);
}

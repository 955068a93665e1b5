// One fixed step of a population that lives on the device. Four dispatches a shard:
//
//   mark     who outlives the step, counted by groups
//   settle   add the groups up, see how many of the newborn find room, write the next calls
//   advance  fields, integration, obstacles, ageing; survivors go to their places in the other buffers, in order
//   give_birth
//
// The formulas are those of frolic-core/src/particles. What is felt and met is in feel.wgsl, body.wgsl and meet.wgsl.

struct Obstacle {
    // As frolic_core::backend::Hindrance has them.
    place: vec4<f32>,
    more: vec4<f32>,
    // Kind; restitution; friction; what becomes of who touches.
    kind: vec4<f32>,
    // Points or cells of its grid, and the row of the texture that it starts in.
    grid: vec4<u32>,
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
    // Vertices of an instance; how many obstacles and collectors; ways up to this length lead through none of the obstacles.
    span: u32, obstacles: u32, collectors: u32, short_way: f32,
    // The number of the first birth, and where the first newborn that is written down is.
    first_id: u32, first_row: u32,
    // 1 where all obstacles are masks that stand, 2 where all are masks that lie.
    flat: u32, spare: u32,
    // Obstacles, then shapes of fields.
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
    // Births before those of this one again; where its newborn start among the step's, if they are written down (shape 7).
    begins: u32, is_fan: u32, row: u32, spare: u32,
}

struct Newborn {
    place: vec4<u32>,
    motion: vec4<u32>,
    age: vec2<f32>,
    spare: vec2<f32>,
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
@group(1) @binding(0) var grids: texture_2d<u32>;
@group(1) @binding(1) var<storage, read> newborn: array<Newborn>;

// An emitter's shape where its newborn are written down by the processor.
const WRITTEN_DOWN: u32 = 7u;

// Words of a shard: alive in either state, survivors, newborn, the first of them by birth.
const LIVE: u32 = 0u;
const SURVIVORS: u32 = 2u;
const BORN: u32 = 3u;
const FIRST_BIRTH: u32 = 4u;
// Words of the population, before its shards'.
const LEFT: u32 = 0u;
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
const SHAPES: u32 = 16u;
// Kinds of obstacle; and whether all are grids that nothing sticks to or passes, so that ways are marched.
const CONVEX: u32 = 32u;
const GROUNDS: u32 = 64u;
const STONES: u32 = 128u;
const MASKS: u32 = 256u;
const MARCHES: u32 = 512u;
const ENDLESS: u32 = 1024u;
const GRIDS: u32 = GROUNDS | STONES | MASKS;

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
    if (FIELDS & SHAPES) != 0u {
        hold_on(&to);
    }
    if (FIELDS & OBSTACLES) != 0u {
        meet(place, all(velocity == vec3(0.0)), &to);
    }
    for (var k = 0u; ENDS_LIVES && !to.dies && k < step.collectors; k++) {
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
    if ENDS_LIVES && kept {
        let to = moved_at(nth);
        kept = !to.picked && !to.dies;
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
    atomicStore(&book[step.book + FIRST_BIRTH], step.due - left);
    atomicStore(&book[step.book + LIVE + 1u - step.parity], survivors + born);
    atomicStore(&book[LEFT], left - born);
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
    if kept {
        to = moved_at(nth);
        if to.hit {
            atomicAdd(&book[HITS], 1u);
        }
        if ENDS_LIVES && to.picked {
            atomicAdd(&book[PICKED], 1u);
            atomicAdd(&book[CAUGHT + to.by], 1u);
        }
        kept = !to.picked && !to.dies;
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
    let id = step.first_id + birth;
    var which = 0u;
    while which + 1u < step.emitters && emitters[which + 1u].begins <= birth {
        which++;
    }
    let emitter = emitters[which];
    let to = atomicLoad(&book[step.book + SURVIVORS]) + nth;
    if emitter.shape == WRITTEN_DOWN {
        let row = newborn[step.first_row + emitter.row + birth - emitter.begins];
        next_places[to] = row.place;
        next_motions[to] = row.motion;
        next_ages[to] = row.age;
        return;
    }
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
    next_places[to] = vec4(bitcast<vec3<u32>>(at), bitcast<u32>(size));
    next_motions[to] = vec4(bitcast<vec3<u32>>(velocity), id);
    next_ages[to] = vec2(age, life);
}

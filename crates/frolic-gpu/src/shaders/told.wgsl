// What a step of a population is told, and the words that the device counts in. Whoever steps it takes this in.

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
    // What a gust adds of the steady wind, and everywhere.
    gust_along: vec4<f32>,
    gust_base: vec4<f32>,
    life: vec2<f32>, size: vec2<f32>,
    seed: u32, due: u32, emitters: u32, capacity: u32,
    // Where its words in the book start; 0 or 1, which of two states is read; whether the population's first, last shard.
    book: u32, parity: u32, is_first: u32, is_last: u32,
    // Vertices of an instance; how many obstacles and collectors; ways up to this length lead through none of the obstacles.
    span: u32, obstacles: u32, collectors: u32, short_way: f32,
    // The number of the first birth, and where the first newborn that is written down is.
    first_id: u32, first_row: u32,
    // 1 where all obstacles are masks that stand, 2 where all are masks that lie.
    flat: u32,
    // Events that a birth is.
    births: u32,
    // Places of a trail, which of them is the newest, and whether it is kept in this step.
    trail: vec4<u32>,
    // Obstacles, then shapes of fields.
    solid: array<Obstacle, 16>,
    collector: array<Ball, 16>,
    // Steady wind and drag of the square; gravity and how many fields there are; 1 for each free axis and whether speeds are limited; how,
    // and what the leapfrog starts from (`Motion::start`).
    wind: vec4<f32>,
    fall: vec4<f32>,
    free: vec4<f32>,
    limits: vec4<f32>,
    field: array<Field, 16>,
    wave: array<Wave, 16>,
}

@group(0) @binding(0) var<uniform> step: Step;
@group(0) @binding(1) var<storage, read_write> book: array<atomic<u32>>;
// Sums of groups of elements; then what events note (happen.wgsl).
@group(0) @binding(2) var<storage, read_write> blocks: array<u32>;
@group(0) @binding(6) var<storage, read_write> next_places: array<vec4<u32>>;
@group(0) @binding(7) var<storage, read_write> next_motions: array<vec4<u32>>;
@group(0) @binding(8) var<storage, read_write> next_ages: array<vec2<f32>>;
@group(0) @binding(9) var<storage, read_write> calls: array<u32>;

// Words of a shard: alive in either state, survivors, newborn, the first of them by birth; the newborn whose births were followed last.
const LIVE: u32 = 0u;
const SURVIVORS: u32 = 2u;
const BORN: u32 = 3u;
const FIRST_BIRTH: u32 = 4u;
const FROM: u32 = 5u;
const TO: u32 = 6u;
// Words of the population, before its shards'.
const LEFT: u32 = 0u;
const EMITTED: u32 = 2u;
const REFUSED: u32 = 3u;
const RETIRED: u32 = 4u;
const HITS: u32 = 5u;
const PICKED: u32 = 6u;
const STEPS: u32 = 7u;
const HAPPENED: u32 = 8u;
// Started by events so far: they use up numbers too.
const STARTED: u32 = 9u;
// The first of sixteen, one a collector.
const CAUGHT: u32 = 16u;

// The next step's dispatch, and the draw of all that live then.
fn write_calls(live: u32) {
    let groups = (live + GROUP - 1u) / GROUP;
    calls[0] = min(groups, 32768u);
    calls[1] = (groups + 32767u) / 32768u;
    calls[2] = 1u;
    calls[4] = step.span;
    calls[5] = live;
    calls[6] = 0u;
    calls[7] = 0u;
    // A dispatch over the stretches of their trails.
    let stretches = (live * step.trail.x + GROUP - 1u) / GROUP;
    calls[8] = min(stretches, 32768u);
    calls[9] = (stretches + 32767u) / 32768u;
    calls[10] = 1u;
}

// Where `blocks` say which element one of the next state was.
fn was_at(nth: u32) -> u32 {
    return (step.capacity + GROUP - 1u) / GROUP + nth;
}

// Where a shard's word of the state that this step writes is.
fn next_live() -> u32 {
    return step.book + LIVE + 1u - step.parity;
}

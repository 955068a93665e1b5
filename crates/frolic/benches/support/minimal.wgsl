// The least that steps, ages, retires, gives birth to and draws particles on a device: what a program of one purpose would do.

struct Step { dt: f32, keep: f32, reach: f32, due: u32, count: u32, parity: u32, scale_x: f32, scale_y: f32 }

@group(0) @binding(0) var<uniform> step: Step;
@group(0) @binding(1) var<storage, read_write> book: array<atomic<u32>>;
@group(0) @binding(2) var<storage, read_write> blocks: array<u32>;
@group(0) @binding(3) var<storage, read> places: array<vec4<f32>>;
@group(0) @binding(4) var<storage, read> motions: array<vec4<f32>>;
@group(0) @binding(5) var<storage, read> ages: array<vec2<f32>>;
@group(0) @binding(6) var<storage, read_write> next_places: array<vec4<f32>>;
@group(0) @binding(7) var<storage, read_write> next_motions: array<vec4<f32>>;
@group(0) @binding(8) var<storage, read_write> next_ages: array<vec2<f32>>;
@group(0) @binding(9) var<storage, read_write> calls: array<u32>;

var<workgroup> masks: array<atomic<u32>, 8>;
var<workgroup> totals: array<u32, 256>;

fn rank(lane: u32, kept: bool) -> vec2<u32> {
    if lane < 8u { atomicStore(&masks[lane], 0u); }
    workgroupBarrier();
    if kept { atomicOr(&masks[lane / 32u], 1u << (lane % 32u)); }
    workgroupBarrier();
    var before = 0u;
    var all = 0u;
    for (var k = 0u; k < 8u; k++) {
        let mask = atomicLoad(&masks[k]);
        if k < lane / 32u { before += countOneBits(mask); }
        if k == lane / 32u { before += countOneBits(mask & ((1u << (lane % 32u)) - 1u)); }
        all += countOneBits(mask);
    }
    return vec2(before, all);
}

@compute @workgroup_size(256)
fn mark(@builtin(global_invocation_id) id: vec3<u32>, @builtin(local_invocation_index) lane: u32) {
    let live = atomicLoad(&book[step.parity]);
    var kept = false;
    if id.x < live { kept = ages[id.x].x + step.dt < ages[id.x].y; }
    let r = rank(lane, kept);
    if lane == 0u && id.x < live { blocks[id.x / 256u] = r.y; }
}

@compute @workgroup_size(256)
fn settle(@builtin(local_invocation_index) lane: u32) {
    let count = (atomicLoad(&book[step.parity]) + 255u) / 256u;
    let each = (count + 255u) / 256u;
    let first = min(lane * each, count);
    let end = min(first + each, count);
    var sum = 0u;
    for (var k = first; k < end; k++) { sum += blocks[k]; }
    totals[lane] = sum;
    workgroupBarrier();
    var before = 0u;
    var all = 0u;
    for (var k = 0u; k < 256u; k++) {
        if k == lane { before = all; }
        all += totals[k];
    }
    for (var k = first; k < end; k++) { let here = blocks[k]; blocks[k] = before; before += here; }
    if lane == 0u {
        let born = min(step.due, step.count - all);
        atomicStore(&book[2], all);
        atomicStore(&book[3], born);
        atomicStore(&book[4], atomicLoad(&book[5]));
        atomicAdd(&book[5], born);
        atomicStore(&book[1u - step.parity], all + born);
        calls[0] = (all + born + 255u) / 256u;
        calls[1] = 1u;
        calls[2] = 1u;
        calls[4] = 4u;
        calls[5] = all + born;
    }
}

@compute @workgroup_size(256)
fn advance(@builtin(global_invocation_id) id: vec3<u32>, @builtin(local_invocation_index) lane: u32) {
    var kept = false;
    if id.x < atomicLoad(&book[step.parity]) { kept = ages[id.x].x + step.dt < ages[id.x].y; }
    let r = rank(lane, kept);
    if kept {
        let to = blocks[id.x / 256u] + r.x;
        let v = motions[id.x].xyz * step.keep + vec3(0.0, -9.81 * 0.01, 0.0) * step.reach;
        next_places[to] = vec4(places[id.x].xyz + v * step.dt, places[id.x].w);
        next_motions[to] = vec4(v, motions[id.x].w);
        next_ages[to] = vec2(ages[id.x].x + step.dt, ages[id.x].y);
    }
}

fn hash3(key: vec3<u32>) -> vec3<f32> {
    var v = key * 1664525u + 1013904223u;
    v.x += v.y * v.z; v.y += v.z * v.x; v.z += v.x * v.y;
    v = v ^ (v >> vec3<u32>(16u));
    v.x += v.y * v.z; v.y += v.z * v.x; v.z += v.x * v.y;
    return vec3<f32>(v >> vec3<u32>(8u)) * (1.0 / 16777216.0);
}

@compute @workgroup_size(256)
fn birth(@builtin(global_invocation_id) gid: vec3<u32>) {
    if gid.x >= atomicLoad(&book[3]) { return; }
    let id = atomicLoad(&book[4]) + gid.x;
    let to = atomicLoad(&book[2]) + gid.x;
    let place = (hash3(vec3(7u, id, 0u)) - 0.5) * vec3(12.8, 8.0, 4.0);
    let life = hash3(vec3(7u, id, 2u));
    next_places[to] = vec4(place, 0.02);
    next_motions[to] = vec4(0.0, 0.0, 0.0, bitcast<f32>(id));
    next_ages[to] = vec2(0.0, mix(1.0, 3.0, life.x));
}

struct Disc {
    @builtin(position) at: vec4<f32>,
    @location(0) off: vec2<f32>,
    @location(1) @interpolate(flat) light: vec3<f32>,
}

@vertex
fn vertex(@builtin(vertex_index) corner: u32, @builtin(instance_index) nth: u32) -> Disc {
    let off = vec2(f32(corner & 1u), f32(corner >> 1u)) * 2.0 - 1.0;
    let age = ages[nth].x / ages[nth].y;
    let place = places[nth];
    return Disc(vec4((place.xy + off * place.w) * vec2(step.scale_x, step.scale_y), 0.5, 1.0), off, mix(vec3(0.2), vec3(0.02), age));
}

@fragment
fn fragment(in: Disc) -> @location(0) vec4<f32> {
    let t = max(1.0 - dot(in.off, in.off), 0.0);
    return vec4(in.light * (t * t), 0.0);
}

@group(0) @binding(10) var drawn: texture_2d<f32>;

@vertex
fn wide(@builtin(vertex_index) vertex: u32) -> @builtin(position) vec4<f32> {
    return vec4(f32(vertex & 1u) * 4.0 - 1.0, f32(vertex >> 1u) * 4.0 - 1.0, 0.0, 1.0);
}

@fragment
fn finish(@builtin(position) at: vec4<f32>) -> @location(0) vec4<f32> {
    let x = textureLoad(drawn, vec2<i32>(at.xy), 0).xyz;
    return vec4(pow(x * (1.0 + x / 81.0) / (1.0 + x), vec3(1.0 / 2.4)), 1.0);
}

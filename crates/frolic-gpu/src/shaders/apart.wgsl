// Bodies that keep apart: frolic-core/src/world/apart. Dispatches of a step, after the bodies are sorted by cell (grid.wgsl):
//
//   clear_slots, claim_slots   which body each slot of the memory belongs to: of two, the younger
//   take      copies bodies into the order of cells, with what is known of them
//   wake      wakes those that something lively touches, or that fewer touch
//   push      one round: all go the mean of their ways out
//   slow      takes away the speed that pushes worked against, and counts who touches
//   give      takes away the speed with which bodies meet, finds those that rest, and writes all back

@group(0) @binding(25) var<uniform> apart: ApartStep;
@group(0) @binding(26) var<storage, read> list: array<u32>;
@group(0) @binding(27) var<storage, read> cells: array<vec2<u32>>;
@group(0) @binding(28) var<storage, read_write> rows: array<vec4<f32>>;
@group(0) @binding(29) var<storage, read_write> pushed: array<vec4<f32>>;
@group(0) @binding(30) var<storage, read_write> sleepers: array<vec4<f32>>;
@group(0) @binding(31) var<storage, read_write> memory: array<vec4<u32>>;
@group(0) @binding(32) var<storage, read_write> owners: array<atomic<u32>>;
@group(1) @binding(0) var grids: texture_2d<u32>;

var<workgroup> counted: array<atomic<u32>, 3>;

fn count_bodies() -> u32 {
    return atomicLoad(&counters[apart.grid.live]);
}

fn flags_of(nth: u32) -> u32 {
    return bitcast<u32>(sleepers[nth * SLEEPER_ROWS].w);
}

fn set_flags(nth: u32, flags: u32) {
    sleepers[nth * SLEEPER_ROWS].w = bitcast<f32>(flags);
}

fn rested(flags: u32) -> u32 {
    return (flags >> 8u) & 0xffu;
}

fn cell_of_body(nth: u32) -> vec3<u32> {
    return bitcast<vec4<u32>>(sleepers[nth * SLEEPER_ROWS + 3u]).yzw;
}

// Distance of the nearest obstacle, and the direction away from it.
fn surface(at: vec3<f32>) -> vec4<f32> {
    var which = 0u;
    var near = vec4(0.0, 0.0, 0.0, 1e30);
    for (var k = 0u; k < step.obstacles; k++) {
        let there = sample(k, at);
        if there.w < near.w {
            near = there;
        }
    }
    return near;
}

@compute @workgroup_size(256)
fn clear_slots(
    @builtin(workgroup_id) group: vec3<u32>,
    @builtin(num_workgroups) groups: vec3<u32>,
    @builtin(local_invocation_index) lane: u32,
) {
    let nth = thread(group, groups, lane);
    if nth <= apart.slots {
        atomicStore(&owners[nth], 0u);
    }
}

@compute @workgroup_size(256)
fn claim_slots(
    @builtin(workgroup_id) group: vec3<u32>,
    @builtin(num_workgroups) groups: vec3<u32>,
    @builtin(local_invocation_index) lane: u32,
) {
    let nth = thread(group, groups, lane);
    if nth < count_bodies() {
        let id = next_motions[nth].w;
        atomicMax(&owners[id & apart.slots], id + 1u);
    }
}

@compute @workgroup_size(256)
fn take(
    @builtin(workgroup_id) group: vec3<u32>,
    @builtin(num_workgroups) groups: vec3<u32>,
    @builtin(local_invocation_index) lane: u32,
) {
    let nth = thread(group, groups, lane);
    if nth >= count_bodies() {
        return;
    }
    let index = list[nth];
    let place = next_places[index];
    let motion = next_motions[index];
    let id = motion.w;
    let radius = max(bitcast<f32>(place.w), 0.0) * apart.radius;
    let at = bitcast<vec3<f32>>(place.xyz);
    let draws = unit(hash3(vec3(id, 0x6170u, 0x6172u))) - 0.5;
    var came = at * apart.free;
    var start = (at + draws * (radius * APART_SHAKE)) * apart.free;
    var velocity = bitcast<vec3<f32>>(motion.xyz);
    let slot = (id & apart.slots) * MEMORY_ROWS;
    let was = memory[slot];
    let kept = memory[slot + 1u];
    var flags = 0u;
    if atomicLoad(&owners[id & apart.slots]) == id + 1u {
        flags |= OWNS_SLOT;
    }
    // One that has just come is as lively as it is fast.
    var pace = length(velocity);
    if was.w == id + 1u {
        pace = bitcast<f32>(kept.x);
        flags |= IS_KNOWN | (kept.y << 8u);
        if (kept.y & 0xffu) >= APART_TIRED {
            // It stays where it was: gravity has moved it.
            flags |= IS_ASLEEP;
            start = bitcast<vec3<f32>>(was.xyz) * apart.free;
            came = start;
            velocity = vec3(0.0);
            pace = 0.0;
        }
    }
    if step.obstacles > 0u {
        let there = surface(start);
        if any(there.xyz * apart.free != vec3(0.0)) && there.w < radius + apart.farthest * 2.0 {
            flags |= BY_WALL;
        }
    }
    var mass = 1.0;
    if apart.mass_power > 0.0 {
        mass = pow(max(radius, 1e-9), apart.mass_power);
    }
    rows[nth * BODY_ROWS] = vec4(start, radius);
    rows[nth * BODY_ROWS + 1u] = vec4(velocity, 1.0 / mass);
    let to = nth * SLEEPER_ROWS;
    sleepers[to] = vec4(came, bitcast<f32>(flags));
    sleepers[to + 1u] = vec4(start, pace);
    sleepers[to + 2u] = vec4(bitcast<vec3<f32>>(was.xyz), 0.0);
    sleepers[to + 3u] = bitcast<vec4<f32>>(vec4(index, cell_at(apart.grid, at)));
}

// Whether two bodies touch, within a share of the sum of their radii.
fn touches(own: vec4<f32>, other: vec4<f32>, share: f32) -> bool {
    let way = own.xyz - other.xyz;
    let square = dot(way, way);
    let reach = (own.w + other.w) * share;
    // Neither itself nor one on its very spot: positions are shaken.
    return square <= reach * reach && square > 0.0;
}

@compute @workgroup_size(256)
fn wake(
    @builtin(workgroup_id) group: vec3<u32>,
    @builtin(num_workgroups) groups: vec3<u32>,
    @builtin(local_invocation_index) lane: u32,
) {
    let nth = thread(group, groups, lane);
    if nth >= count_bodies() {
        return;
    }
    let flags = flags_of(nth);
    if (flags & IS_ASLEEP) == 0u {
        return;
    }
    let own = rows[nth * BODY_ROWS];
    let cell = cell_of_body(nth);
    var touching = select(0.0, 1.0, (flags & BY_WALL) != 0u);
    var liveliest = 0.0;
    for (var k = 0u; k < cells_around(apart.grid); k++) {
        let run = cells[around(apart.grid, cell, k)];
        for (var other = run.x; other < run.y; other++) {
            if touches(own, rows[other * BODY_ROWS], APART_SKIN + APART_WIDER) {
                touching += 1.0;
                liveliest = max(liveliest, sleepers[other * SLEEPER_ROWS + 1u].w);
            }
        }
    }
    let alone = touching + 0.5 < f32((flags >> 16u) & 0xffu);
    if alone || liveliest > apart.rest * APART_LIVELY {
        set_flags(nth, (flags & ~IS_ASLEEP) & 0xffff00ffu);
    }
}

// Moves a body out of an obstacle, to where its surface is a radius away; in a corner off one after the other.
fn stand_off(own: ptr<function, vec4<f32>>) {
    for (var k = 0u; k < 3u; k++) {
        let there = surface((*own).xyz);
        if there.w >= (*own).w * 0.99999 {
            return;
        }
        *own += vec4(there.xyz * ((*own).w - there.w), 0.0);
    }
}

// Reads `rows`, writes `pushed`: the two take turns.
@compute @workgroup_size(256)
fn push(
    @builtin(workgroup_id) group: vec3<u32>,
    @builtin(num_workgroups) groups: vec3<u32>,
    @builtin(local_invocation_index) lane: u32,
) {
    if lane < 3u {
        atomicStore(&counted[lane], 0u);
    }
    workgroupBarrier();
    let nth = thread(group, groups, lane);
    if nth < count_bodies() {
        push_one(nth);
    }
    workgroupBarrier();
    if lane == 0u {
        add_wide(apart.tally, atomicLoad(&counted[0]));
        add_wide(apart.tally + 2u, atomicLoad(&counted[1]));
    }
}

fn push_one(nth: u32) {
    var own = rows[nth * BODY_ROWS];
    let more = rows[nth * BODY_ROWS + 1u];
    let flags = flags_of(nth);
    if (flags & IS_ASLEEP) == 0u {
        let cell = cell_of_body(nth);
        var out = vec3(0.0);
        var overlapping = 0u;
        var tested = 0u;
        for (var k = 0u; k < cells_around(apart.grid); k++) {
            let run = cells[around(apart.grid, cell, k)];
            tested += run.y - run.x;
            for (var other = run.x; other < run.y; other++) {
                let there = rows[other * BODY_ROWS];
                let way = own.xyz - there.xyz;
                let square = dot(way, way);
                let reach = own.w + there.w;
                if square < reach * reach && square > 0.0 {
                    let distance = max(sqrt(square), 1e-12);
                    let gives = rows[other * BODY_ROWS + 1u].w;
                    out += way * ((reach - distance) * more.w / (max(more.w + gives, 1e-12) * distance));
                    overlapping += 1u;
                }
            }
        }
        // The more there are the less each counts, but a pair goes all the way.
        let share = apart.stiffness / max(f32(overlapping) * 0.5, 1.0);
        let start = sleepers[nth * SLEEPER_ROWS + 1u].xyz;
        let off = own.xyz + out * share - start;
        let far = length(off);
        own = vec4(start + off * select(1.0, apart.farthest / far, far > apart.farthest), own.w);
        if (flags & BY_WALL) != 0u {
            stand_off(&own);
        }
        atomicAdd(&counted[0], tested - 1u);
        atomicAdd(&counted[1], overlapping);
    }
    pushed[nth * BODY_ROWS] = own;
    pushed[nth * BODY_ROWS + 1u] = more;
}

@compute @workgroup_size(256)
fn slow(
    @builtin(workgroup_id) group: vec3<u32>,
    @builtin(num_workgroups) groups: vec3<u32>,
    @builtin(local_invocation_index) lane: u32,
) {
    let nth = thread(group, groups, lane);
    if nth >= count_bodies() {
        return;
    }
    let own = rows[nth * BODY_ROWS];
    let more = rows[nth * BODY_ROWS + 1u];
    let off = own.xyz - sleepers[nth * SLEEPER_ROWS + 1u].xyz;
    let way = length(off);
    if way > 0.0 && (flags_of(nth) & IS_ASLEEP) == 0u {
        // No more than pushes undid of the way, and never beyond rest.
        let out = off / way;
        let change = min(max(-dot(more.xyz, out), 0.0), way / apart.dt);
        rows[nth * BODY_ROWS + 1u] = vec4(more.xyz + out * change, more.w);
    }
    let cell = cell_of_body(nth);
    var touching = 0.0;
    for (var k = 0u; k < cells_around(apart.grid); k++) {
        let run = cells[around(apart.grid, cell, k)];
        for (var other = run.x; other < run.y; other++) {
            touching += select(0.0, 1.0, touches(own, rows[other * BODY_ROWS], APART_SKIN));
        }
    }
    sleepers[nth * SLEEPER_ROWS + 2u].w = touching;
}

@compute @workgroup_size(256)
fn give(
    @builtin(workgroup_id) group: vec3<u32>,
    @builtin(num_workgroups) groups: vec3<u32>,
    @builtin(local_invocation_index) lane: u32,
) {
    let nth = thread(group, groups, lane);
    if nth >= count_bodies() {
        return;
    }
    let own = rows[nth * BODY_ROWS];
    let more = rows[nth * BODY_ROWS + 1u];
    let came = sleepers[nth * SLEEPER_ROWS];
    let begun = sleepers[nth * SLEEPER_ROWS + 1u];
    let was = sleepers[nth * SLEEPER_ROWS + 2u];
    var flags = flags_of(nth);
    var velocity = more.xyz;
    var touching = was.w;
    var pace = begun.w;
    if (flags & IS_ASLEEP) != 0u {
        atomicAdd(&counters[apart.tally + 4u], 1u);
    } else {
        velocity += met(nth, own, more, touching);
        let off = came.xyz + (own.xyz - begun.xyz) - was.xyz;
        let way = dot(off, off);
        if (flags & BY_WALL) != 0u && surface(own.xyz).w <= own.w * APART_SKIN {
            touching += 1.0;
            velocity *= 1.0 - apart.friction;
        }
        // What relaxes slowly is not at rest yet.
        let still = apart.rest * apart.dt * APART_CREEP;
        let rests = (flags & IS_KNOWN) != 0u && touching >= 1.0 && way <= still * still;
        let rest = select(0u, min(rested(flags) + 1u, APART_TIRED), rests);
        velocity = select(velocity, vec3(0.0), rests);
        pace = sqrt(way) / apart.dt;
        flags = (flags & 0xffu) | (rest << 8u) | (u32(min(touching, 255.0)) << 16u);
    }
    let index = bitcast<u32>(sleepers[nth * SLEEPER_ROWS + 3u].x);
    let place = next_places[index];
    let id = next_motions[index].w;
    let to = came.xyz + (own.xyz - begun.xyz);
    let at = select(bitcast<vec3<f32>>(place.xyz), to, apart.free > vec3(0.0));
    next_places[index] = vec4(bitcast<vec3<u32>>(at), place.w);
    next_motions[index] = vec4(bitcast<vec3<u32>>(velocity), id);
    if (flags & OWNS_SLOT) != 0u {
        let slot = (id & apart.slots) * MEMORY_ROWS;
        memory[slot] = vec4(bitcast<vec3<u32>>(to), id + 1u);
        memory[slot + 1u] = vec4(bitcast<u32>(pace), (flags >> 8u) & 0xffffu, 0u, 0u);
    }
}

// Change of the velocity of a body by those that it touches: the more there are at either of two, the less they change each other, so that all together
// gain no energy.
fn met(nth: u32, own: vec4<f32>, more: vec4<f32>, touching: f32) -> vec3<f32> {
    let cell = cell_of_body(nth);
    var change = vec3(0.0);
    for (var k = 0u; k < cells_around(apart.grid); k++) {
        let run = cells[around(apart.grid, cell, k)];
        for (var other = run.x; other < run.y; other++) {
            let there = rows[other * BODY_ROWS];
            if !touches(own, there, APART_SKIN) {
                continue;
            }
            let theirs = rows[other * BODY_ROWS + 1u];
            let crowd = max(touching, sleepers[other * SLEEPER_ROWS + 2u].w);
            let off = own.xyz - there.xyz;
            let out = off / max(length(off), 1e-12);
            let relative = more.xyz - theirs.xyz;
            let parting = dot(relative, out);
            // Only the speed with which they near each other goes, and some of that along each other.
            let nearing = min(parting, 0.0);
            let pressing = select(0.0, apart.friction, nearing < 0.0);
            let share = more.w / (max(more.w + theirs.w, 1e-12) * max(crowd, 1e-12));
            change -= (out * nearing + (relative - out * parting) * pressing) * share;
        }
    }
    return change;
}

// Arranges the state of a flock by cell, and lets newcomers in. Dispatches of a step:
//
//   arrange    copies every element to its place in the order of cells
//   settle     counts those that are left
//   (hunters, steering)
//   let_in     how many newcomers there are
//   newcomers  writes them

@group(0) @binding(12) var<storage, read_write> bearings: array<vec4<f32>>;
@group(0) @binding(13) var<storage, read_write> arranged: array<vec4<u32>>;
@group(0) @binding(16) var<storage, read> list: array<u32>;
@group(0) @binding(17) var<storage, read_write> gone: array<u32>;
@group(0) @binding(18) var<storage, read> sorted: array<u32>;
@group(0) @binding(19) var<storage, read> starts: array<vec4<u32>>;

@compute @workgroup_size(256)
fn arrange(
    @builtin(workgroup_id) group: vec3<u32>,
    @builtin(num_workgroups) groups: vec3<u32>,
    @builtin(local_invocation_index) lane: u32,
) {
    let nth = thread(group, groups, lane);
    if is_gap(nth) {
        return;
    }
    gone[nth] = 0u;
    if nth >= sorted[LIST_LIVING] {
        return;
    }
    let source = list[nth];
    let place = next_places[source];
    let motion = next_motions[source];
    let bearing = source * BEARING_ROWS;
    let at = bitcast<vec3<f32>>(place.xyz);
    // Elements on one spot have a direction to part in; far from the origin at least as much as a float can tell.
    let draws = unit(hash3(vec3(motion.w, 0x7368u, 0x616bu))) - 0.5;
    let counts = select(vec3(0.0), vec3(1.0), flock.shake > vec3(0.0));
    let shaken = (at + draws * max(flock.shake, abs(at) * 2.4e-7)) * counts;
    let way = bearings[bearing + 1u];
    let hunter = bearings[bearing + 2u];
    arranged[arranged_at(0u, nth)] = bitcast<vec4<u32>>(vec4(shaken, way.z));
    arranged[arranged_at(1u, nth)] = motion;
    arranged[arranged_at(2u, nth)] = place;
    arranged[arranged_at(3u, nth)] = bitcast<vec4<u32>>(vec4(bearings[bearing].w, way.x, hunter.xy));
}

@compute @workgroup_size(1)
fn settle() {
    let left = sorted[LIST_LIVING];
    atomicAdd(&counters[CAUGHT], flock_size() - left);
    atomicStore(&counters[flock.grid.live], left);
    atomicStore(&counters[FULLEST], 0u);
    atomicStore(&counters[CELLS_USED], 0u);
    atomicAdd(&counters[STEPS], 1u);
    write_calls(left);
}

@compute @workgroup_size(1)
fn let_in() {
    let there = flock_size();
    let room = flock.grid.capacity - min(there, flock.grid.capacity);
    let owed = min(bitcast<f32>(atomicLoad(&counters[OWED])) + flock.joining, f32(room));
    let due = min(u32(owed), room);
    atomicStore(&counters[OWED], bitcast<u32>(owed - f32(due)));
    atomicStore(&counters[step.counters + SURVIVORS], there);
    atomicStore(&counters[step.counters + BORN], due);
    atomicStore(&counters[step.counters + FIRST_BIRTH], atomicLoad(&counters[NEXT_ID]));
    atomicAdd(&counters[NEXT_ID], due);
    atomicAdd(&counters[EMITTED], due);
    atomicStore(&counters[flock.grid.live], there + due);
    write_calls(there + due);
}

@compute @workgroup_size(256)
fn newcomers(
    @builtin(workgroup_id) group: vec3<u32>,
    @builtin(num_workgroups) groups: vec3<u32>,
    @builtin(local_invocation_index) lane: u32,
) {
    let nth = thread(group, groups, lane);
    if nth >= atomicLoad(&counters[step.counters + BORN]) {
        return;
    }
    let to = atomicLoad(&counters[step.counters + SURVIVORS]) + nth;
    let id = atomicLoad(&counters[step.counters + FIRST_BIRTH]) + nth;
    // They begin where the first ones did, in turn.
    let source = id % flock.starts * 2u;
    let motion = starts[source + 1u];
    next_places[to] = starts[source];
    next_motions[to] = vec4(motion.xyz, id);
    gone[to] = 0u;
    let way = unit(hash3(vec3(id, step.seed, 31u))).x * 64.0;
    bearings[to * BEARING_ROWS] = vec4(bitcast<vec3<f32>>(motion.xyz), 0.0);
    bearings[to * BEARING_ROWS + 1u] = vec4(way, -1.0, 0.0, 0.0);
    bearings[to * BEARING_ROWS + 2u] = vec4(0.0, bitcast<f32>(NO_ELEMENT), 0.0, 0.0);
}

// Updates trails after a step: the element, then a ring of its last positions.

@group(0) @binding(13) var<storage, read> trail: array<u32>;
@group(0) @binding(14) var<storage, read_write> next_trail: array<u32>;

@compute @workgroup_size(256)
fn carry(
    @builtin(workgroup_id) group: vec3<u32>,
    @builtin(num_workgroups) groups: vec3<u32>,
    @builtin(local_invocation_index) lane: u32,
) {
    let nth = thread(group, groups, lane);
    if nth >= atomicLoad(&counters[next_live()]) {
        return;
    }
    let each = TRAIL_HEAD + step.trail_places * 3u;
    let to = nth * each;
    let place = next_places[nth];
    let motion = next_motions[nth];
    let age = next_ages[nth];
    let at = bitcast<vec3<f32>>(place.xyz);
    let velocity = bitcast<vec3<f32>>(motion.xyz);
    write_head(to, TrailHead(at, bitcast<f32>(place.w), velocity, motion.w, age.x / age.y));
    // All positions of a newborn are those of its birth.
    let lasts = nth < atomicLoad(&counters[step.counters + SURVIVORS]);
    var before = 0u;
    if lasts {
        before = blocks[was_at(nth)] * each;
    }
    for (var k = 0u; k < step.trail_places; k++) {
        var kept = place.xyz;
        let at = TRAIL_HEAD + k * 3u;
        if lasts && !(step.trail_adds != 0u && k == step.trail_newest) {
            kept = vec3(trail[before + at], trail[before + at + 1u], trail[before + at + 2u]);
        }
        next_trail[to + at] = kept.x;
        next_trail[to + at + 1u] = kept.y;
        next_trail[to + at + 2u] = kept.z;
    }
}

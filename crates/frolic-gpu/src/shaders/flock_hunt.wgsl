// Hunters: frolic-core/src/families/flock/hunt.rs. Two dispatches: `choose`, a thread group for each hunter, and `catch_prey`, one thread for all, so
// that one prey has one hunter.

@group(0) @binding(13) var<storage, read_write> arranged: array<vec4<u32>>;
@group(0) @binding(15) var<storage, read_write> others: array<vec4<u32>>;
@group(0) @binding(20) var<storage, read> prey_counters: array<u32>;
@group(0) @binding(21) var<storage, read> prey_places: array<vec4<u32>>;
@group(0) @binding(22) var<storage, read> prey_motions: array<vec4<u32>>;
@group(0) @binding(23) var<storage, read> prey_bearings: array<vec4<f32>>;
@group(0) @binding(24) var<storage, read_write> prey_gone: array<u32>;

// Score as whole numbers, which order like the positive floats they are, and index.
var<workgroup> scores: array<vec2<u32>, GROUP>;

@compute @workgroup_size(256)
fn choose(@builtin(workgroup_id) group: vec3<u32>, @builtin(local_invocation_index) lane: u32) {
    let nth = group.x;
    let hunter = bitcast<vec4<f32>>(arranged[arranged_at(3u, nth)]);
    let at = bitcast<vec3<f32>>(arranged[arranged_at(2u, nth)].xyz);
    let quarry = bitcast<u32>(hunter.w);
    var best = vec2(NO_ELEMENT, NO_ELEMENT);
    let looks = !is_gap(nth) && hunter.z - step.dt <= 0.0;
    // Every flock counts its elements in the same word.
    let prey = select(0u, prey_counters[flock.grid.live], looks);
    for (var k = lane; k < prey; k += GROUP) {
        let way = bitcast<vec3<f32>>(prey_places[k].xyz) - at;
        let square = dot(way, way);
        if square > flock.sight * flock.sight {
            continue;
        }
        var score = sqrt(square) * (1.0 + flock.isolation * prey_bearings[k * BEARING_ROWS + 1u].w * 0.1);
        score *= select(1.0, LOYALTY, prey_motions[k].w == quarry);
        if bitcast<u32>(score) < best.x {
            best = vec2(bitcast<u32>(score), k);
        }
    }
    scores[lane] = best;
    workgroupBarrier();
    for (var half = GROUP / 2u; half > 0u; half /= 2u) {
        if lane < half {
            let other = scores[lane + half];
            let own = scores[lane];
            if other.x < own.x || (other.x == own.x && other.y < own.y) {
                scores[lane] = other;
            }
        }
        workgroupBarrier();
    }
    if lane > 0u || is_gap(nth) {
        return;
    }
    let found = scores[0].y;
    let row = FOUND_ROWS + nth * 2u;
    if found == NO_ELEMENT {
        others[row] = vec4(0u, 0u, 0u, NO_ELEMENT);
        return;
    }
    let way = bitcast<vec3<f32>>(prey_places[found].xyz) - at;
    others[row] = vec4(bitcast<vec3<u32>>(way), found);
    others[row + 1u] = prey_motions[found];
}

@compute @workgroup_size(1)
fn catch_prey() {
    for (var nth = 0u; nth < flock_size(); nth++) {
        let own = arranged[arranged_at(3u, nth)];
        var rest = max(bitcast<f32>(own.z) - step.dt, 0.0);
        var quarry = NO_ELEMENT;
        var chase = vec3(0.0);
        let found = others[FOUND_ROWS + nth * 2u];
        if found.w != NO_ELEMENT {
            let motion = others[FOUND_ROWS + nth * 2u + 1u];
            let way = bitcast<vec3<f32>>(found.xyz);
            let velocity = bitcast<vec3<f32>>(motion.xyz);
            let distance = length(way);
            if distance <= flock.catch_reach && prey_gone[found.w] == 0u {
                prey_gone[found.w] = 1u;
                rest = flock.digest;
            } else {
                quarry = motion.w;
                // Heads for where the prey will be when it is there, at most a second ahead.
                let mine = bitcast<vec3<f32>>(arranged[arranged_at(1u, nth)].xyz);
                let closing = max(length(mine - velocity), 1e-6);
                chase = or_zero(way + velocity * min(distance / closing, 1.0));
            }
        }
        arranged[arranged_at(3u, nth)] = vec4(own.xy, bitcast<u32>(rest), quarry);
        others[CHASE_ROWS + nth] = vec4(bitcast<vec3<u32>>(chase), 0u);
    }
}

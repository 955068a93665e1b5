// What a population feels where fields are felt one by one.

// As frolic-core/src/world/mod.rs.
fn on_edge(at: vec3<f32>) -> vec3<f32> {
    let level = at.x + at.z;
    let up = at.y * ON_EDGE.y;
    let aside = level * ON_EDGE.x + up;
    return vec3(at.x + aside, up - level * ON_EDGE.y, at.z + aside);
}

// What gusts add to the steady wind at a place.
fn gust_at(place: vec3<f32>) -> vec3<f32> {
    let noise = gust_noise(on_edge(place * step.gust_origin.w - step.gust_origin.xyz), GUST_SEED);
    return noise * step.strengths.x + noise.y * step.gust_along.xyz + step.gust_base.xyz;
}

// Velocity of the air at an element, and all accelerations.
struct Acting {
    air: vec3<f32>,
    push: vec3<f32>,
}

// `Chunk::sum_fields` of frolic-core/src/world/bodies/step.rs.
fn sum_fields(place: vec3<f32>, velocity: vec3<f32>) -> Acting {
    var air = step.wind.xyz;
    var push = step.fall.xyz;
    if (FIELDS & GUSTS) != 0u {
        air += gust_at(place);
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
            case 5u: {
                if (FIELDS & SHAPES) != 0u {
                    let there = distances(u32(felt.b.x), place);
                    let normal = or_zero(there.xyz);
                    // Damping is held over the step, so that no step is too long for it.
                    let damp = felt.a.y / (1.0 + felt.a.y * step.dt);
                    let off = clamp(there.w, -felt.a.z, felt.a.z);
                    push -= normal * ((felt.a.x * off + damp * dot(velocity, normal)) * share);
                }
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
    return Acting(air, push);
}

// `Motion::after` and the limits of speed: frolic-core/src/world/bodies/motion.rs.
fn after(acting: Acting, velocity: vec3<f32>, keep: f32, reach: f32) -> vec3<f32> {
    let through = velocity - acting.air;
    let slow = 1.0 / (1.0 + step.wind.w * length(through) * reach);
    return limited((acting.air + through * (keep * slow) + acting.push * (reach * slow)) * step.free.xyz);
}

fn limited(velocity: vec3<f32>) -> vec3<f32> {
    let speed = length(velocity);
    if step.free.w > 0.0 && speed > 0.0 {
        return velocity * (min(max(speed, step.limits.x), step.limits.y) / speed);
    }
    return velocity;
}

// `Motion::before_birth`.
fn before_birth(acting: Acting, velocity: vec3<f32>) -> vec3<f32> {
    let through = limited(velocity * step.free.xyz) - acting.air;
    let square = min(step.wind.w * length(through) * step.dt, 1.0);
    return (acting.air + through * (step.limits.z + 0.5 * square) + acting.push * step.limits.w) * step.free.xyz;
}

fn attraction(place: vec3<f32>) -> vec3<f32> {
    let d = step.attractor.xyz - place;
    let r2 = dot(d, d) + step.strengths.z * step.strengths.z;
    return d * (step.strengths.y / (r2 * sqrt(r2)));
}

// Puts an element onto each surface that holds it, by three steps along the gradient, and leaves it what leads along.
fn hold_on(to: ptr<function, Moved>) {
    for (var k = 0u; k < u32(step.fall.w); k++) {
        let felt = step.field[k];
        if u32(felt.b.w) != 5u || felt.b.y == 0.0 {
            continue;
        }
        for (var turn = 0u; turn < 3u; turn++) {
            let there = distances(u32(felt.b.x), (*to).at);
            let normal = or_zero(there.xyz);
            (*to).at -= normal * there.w;
            (*to).velocity -= normal * dot((*to).velocity, normal);
        }
    }
}

// Fields, gusts and integration.

// As in frolic-core/src/world/mod.rs.
fn on_edge(at: vec3<f32>) -> vec3<f32> {
    let level = at.x + at.z;
    let up = at.y * ON_EDGE.y;
    let aside = level * ON_EDGE.x + up;
    return vec3(at.x + aside, up - level * ON_EDGE.y, at.z + aside);
}

// What gusts add to the steady wind at a position.
fn gust_at(place: vec3<f32>) -> vec3<f32> {
    let noise = gust_noise(on_edge(place * step.gusts_per_metre - step.gust_origin), GUST_SEED);
    return noise * step.gust_strength + noise.y * step.gust_along + step.gust_base;
}

// Strength of a field at an offset from its centre.
fn fade(off: vec3<f32>, per_reach: f32) -> f32 {
    let left = max(1.0 - dot(off, off) * per_reach, 0.0);
    return left * left;
}

// Velocity of the air at an element, and all accelerations.
struct Acting {
    air: vec3<f32>,
    push: vec3<f32>,
}

// `Chunk::sum_fields` of frolic-core/src/world/bodies/step.rs.
fn sum_fields(place: vec3<f32>, velocity: vec3<f32>) -> Acting {
    var air = step.wind;
    var push = step.gravity;
    if (FEATURES & HAS_GUSTS) != 0u {
        air += gust_at(place);
    }
    for (var k = 0u; k < step.fields; k++) {
        let field = step.field[k];
        let off = place - field.middle;
        let share = fade(off, field.per_reach);
        switch field.kind {
            case FIELD_PUSH: { push += field.a.xyz * share; }
            case FIELD_WIND: { air += field.a.xyz * share; }
            case FIELD_ATTRACT: {
                let r2 = dot(off, off) + field.a.y * field.a.y;
                var pull = field.a.x;
                switch u32(field.a.z) {
                    case FALLOFF_SQUARE: { pull /= r2 * sqrt(r2); }
                    case FALLOFF_LINEAR: { pull /= r2; }
                    case FALLOFF_NONE: { pull /= sqrt(r2); }
                    default: {}
                }
                push -= off * (pull * share);
            }
            case FIELD_VORTEX: {
                let axis = field.a.xyz;
                let out = off - axis * dot(off, axis);
                let near = share / (1.0 + dot(out, out) * field.a.w);
                air += cross(axis, out) * (field.b.x * near) - out * (field.b.y * near) + axis * (field.b.z * near);
            }
            case FIELD_SHAPE: {
                if (FEATURES & HAS_SHAPES) != 0u {
                    let there = distances(u32(field.b.x), place);
                    let normal = or_zero(there.xyz);
                    // Damping is implicit, so it is stable at any step.
                    let damp = field.a.y / (1.0 + field.a.y * step.dt);
                    let off = clamp(there.w, -field.a.z, field.a.z);
                    push -= normal * ((field.a.x * off + damp * dot(velocity, normal)) * share);
                }
            }
            default: {
                let first = u32(field.a.x);
                for (var n = first; n < first + u32(field.a.y); n++) {
                    let wave = step.wave[n];
                    let turns = dot(place, wave.turns) + wave.phase;
                    let t = turns - round(turns);
                    air += wave.push * (t * (0.5 - abs(t)) * share);
                }
            }
        }
    }
    return Acting(air, push);
}

// `Motion::after` and the limits of speed: frolic-core/src/world/bodies/motion.rs.
fn after(acting: Acting, velocity: vec3<f32>, keep: f32, reach: f32) -> vec3<f32> {
    let through = velocity - acting.air;
    let slow = 1.0 / (1.0 + step.drag_square * length(through) * reach);
    return limited((acting.air + through * (keep * slow) + acting.push * (reach * slow)) * step.free);
}

fn limited(velocity: vec3<f32>) -> vec3<f32> {
    let speed = length(velocity);
    if step.has_speed_limits != 0u && speed > 0.0 {
        return velocity * (min(max(speed, step.least_speed), step.most_speed) / speed);
    }
    return velocity;
}

// `Motion::before_birth`.
fn before_birth(acting: Acting, velocity: vec3<f32>) -> vec3<f32> {
    let through = limited(velocity * step.free) - acting.air;
    let square = min(step.drag_square * length(through) * step.dt, 1.0);
    return (acting.air + through * (step.start_velocity + 0.5 * square) + acting.push * step.start_push) * step.free;
}

fn attraction(place: vec3<f32>) -> vec3<f32> {
    let d = step.attractor - place;
    let r2 = dot(d, d) + step.attractor_radius * step.attractor_radius;
    return d * (step.attractor_strength / (r2 * sqrt(r2)));
}

// Projects an element onto the surfaces that hold it, by three steps along the gradient, and keeps the velocity along the surface.
fn hold_on(to: ptr<function, Moved>) {
    for (var k = 0u; k < step.fields; k++) {
        let field = step.field[k];
        if field.kind != FIELD_SHAPE || field.b.y == 0.0 {
            continue;
        }
        for (var turn = 0u; turn < 3u; turn++) {
            let there = distances(u32(field.b.x), (*to).at);
            let normal = or_zero(there.xyz);
            (*to).at -= normal * there.w;
            (*to).velocity -= normal * dot((*to).velocity, normal);
        }
    }
}

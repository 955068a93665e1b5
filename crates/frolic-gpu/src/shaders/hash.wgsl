// Stateless random numbers, bit for bit those of frolic-core/src/foundations/random.rs.

// pcg3d of Jarzynski and Olano, "Hash Functions for GPU Rendering" (2020).
fn hash3(key: vec3<u32>) -> vec3<u32> {
    var v = key * 1664525u + 1013904223u;
    v.x += v.y * v.z;
    v.y += v.z * v.x;
    v.z += v.x * v.y;
    v = v ^ (v >> vec3<u32>(16u));
    v.x += v.y * v.z;
    v.y += v.z * v.x;
    v.z += v.x * v.y;
    return v;
}

// Floats in 0..1 from the 24 upper bits.
fn unit(bits: vec3<u32>) -> vec3<f32> {
    return vec3<f32>(bits >> vec3<u32>(8u)) * (1.0 / 16777216.0);
}

// Sine and cosine of a turn (1 is a full turn) to float precision; built-in functions are coarser.
fn sin_cos_turn(turn: f32) -> vec2<f32> {
    let eighth = round(turn * 4.0);
    let x = (turn - eighth * 0.25) * TAU;
    let q = u32(i32(eighth) & 3);
    let x2 = x * x;
    let s = x + x * x2 * (-0.16666667 + x2 * (0.0083333310 + x2 * (-0.00019840874 + x2 * 2.7525562e-6)));
    let c = 1.0 + x2 * (-0.5 + x2 * (0.041666638 + x2 * (-0.0013888378 + x2 * 2.4760495e-5)));
    switch q {
        case 0u: { return vec2(s, c); }
        case 1u: { return vec2(c, -s); }
        case 2u: { return vec2(-s, -c); }
        default: { return vec2(-c, s); }
    }
}

const TAU: f32 = 6.28318530717958647692;

fn is_finite(v: vec3<f32>) -> bool {
    let bits = bitcast<vec3<u32>>(v) & vec3<u32>(0x7f800000u);
    return all(bits != vec3<u32>(0x7f800000u));
}

// A unit vector, or zero.
fn or_zero(v: vec3<f32>) -> vec3<f32> {
    let far = length(v);
    return select(vec3(0.0), v / far, far > 1e-20);
}

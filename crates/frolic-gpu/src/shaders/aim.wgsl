// Where and which way newborn start: frolic-core/src/placement/source.rs and families/particles/emit.rs.

struct Aim {
    // Axes of the aim, with the cosine of its rim and lowest and highest speed. Of an emitter's fan: side, nothing, middle; angles, in turns,
    // for cosines.
    x: vec4<f32>,
    y: vec4<f32>,
    z: vec4<f32>,
    // Axes of the shape, with its size.
    face_x: vec4<f32>,
    face_y: vec4<f32>,
    face_z: vec4<f32>,
}

// A direction evenly over the part of the sphere around z between two cosines.
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

// A place of a shape.
fn spot(shape: u32, aim: Aim, dice: vec3<f32>) -> vec3<f32> {
    let face_x = aim.face_x.xyz;
    let face_y = aim.face_y.xyz;
    let face_z = aim.face_z.xyz;
    let size = vec3(aim.face_x.w, aim.face_y.w, aim.face_z.w);
    switch shape {
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

// A speed of those that come with an aim.
fn speed(aim: Aim, dice: f32) -> f32 {
    return aim.y.w + (aim.z.w - aim.y.w) * dice;
}

// A direction of a flat fan whose middle and side these are; the least and the greatest angle are turns.
fn fan(middle: vec3<f32>, side: vec3<f32>, least: f32, most: f32, dice: f32) -> vec3<f32> {
    let to = dice * 2.0 - 1.0;
    let turn = sin_cos_turn((least + (most - least) * abs(to)) * select(1.0, -1.0, to < 0.0));
    return middle * turn.y + side * turn.x;
}

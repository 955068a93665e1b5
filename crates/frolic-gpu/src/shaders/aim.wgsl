// Positions and directions of newborns: frolic-core/src/placement/source.rs and families/particles/emit.rs.

// A uniform direction between two cosines around z.
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

// A position of a shape.
fn spot(shape: u32, aim: Aim, random: vec3<f32>) -> vec3<f32> {
    let face_x = aim.face_x;
    let face_y = aim.face_y;
    let face_z = aim.face_z;
    let size = vec3(aim.size_x, aim.size_y, aim.size_z);
    switch shape {
        case SHAPE_DISC: {
            let turn = sin_cos_turn(random.y);
            return (face_x * turn.y + face_y * turn.x) * (size.x * sqrt(random.x));
        }
        case SHAPE_SPHERE: { return cap(face_x, face_y, face_z, random.x, random.y, 1.0, -1.0) * (size.x * cube_root(random.z)); }
        case SHAPE_SPHERE_SURFACE: { return cap(face_x, face_y, face_z, random.x, random.y, 1.0, -1.0) * size.x; }
        case SHAPE_BOX: {
            let off = (random - 0.5) * size;
            return face_x * off.x + face_y * off.y + face_z * off.z;
        }
        case SHAPE_LINE: { return (face_x * size.x + face_y * size.y + face_z * size.z) * random.x; }
        case SHAPE_RING: {
            let turn = sin_cos_turn(random.y);
            return (face_x * turn.y + face_y * turn.x) * size.x;
        }
        default: { return vec3(0.0); }
    }
}

// A speed of an aim.
fn speed(aim: Aim, random: f32) -> f32 {
    return aim.speed_min + (aim.speed_max - aim.speed_min) * random;
}

// A direction of a flat fan, given its middle and side. Angles are in turns.
fn fan(middle: vec3<f32>, side: vec3<f32>, least: f32, most: f32, random: f32) -> vec3<f32> {
    let to = random * 2.0 - 1.0;
    let turn = sin_cos_turn((least + (most - least) * abs(to)) * select(1.0, -1.0, to < 0.0));
    return middle * turn.y + side * turn.x;
}

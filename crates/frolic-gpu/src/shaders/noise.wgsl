// Smooth vector noise: frolic-core/src/foundations/noise.rs.

fn lattice(cell: vec3<u32>) -> vec3<f32> {
    return unit(hash3(cell)) * 2.0 - 1.0;
}

fn gust_noise(point: vec3<f32>, seed: u32) -> vec3<f32> {
    let inside = select(vec3(0.0), point, abs(point) < vec3(4000000.0));
    let low = floor(inside);
    let f = inside - low;
    let t = f * f * f * (f * (f * 6.0 - 15.0) + 10.0);
    let cell = bitcast<vec3<u32>>(vec3<i32>(low));
    var faces: array<vec3<f32>, 2>;
    for (var k = 0u; k < 2u; k++) {
        let x = vec2(cell.x ^ seed, (cell.x + 1u) ^ seed);
        let z = cell.z + k;
        let near = mix(lattice(vec3(x.x, cell.y, z)), lattice(vec3(x.y, cell.y, z)), t.x);
        let far = mix(lattice(vec3(x.x, cell.y + 1u, z)), lattice(vec3(x.y, cell.y + 1u, z)), t.x);
        faces[k] = mix(near, far, t.y);
    }
    return mix(faces[0], faces[1], t.z);
}

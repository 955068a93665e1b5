// Bloom: means of blocks of eight by eight pixels, blurred near and far, half of each: see frolic-raster/src/finish.rs. Its
// box filters in a row are one kernel here.

@group(0) @binding(0) var<uniform> size: BloomSize;
@group(0) @binding(1) var picture: texture_2d<f32>;
@group(0) @binding(2) var<storage, read_write> one: array<vec4<f32>>;
@group(0) @binding(3) var<storage, read_write> two: array<vec4<f32>>;
@group(0) @binding(4) var<storage, read_write> three: array<vec4<f32>>;

const BLOCK: i32 = i32(BLOOM_BLOCK);

@compute @workgroup_size(8, 8)
fn means(@builtin(global_invocation_id) id: vec3<u32>) {
    let at = vec2<i32>(id.xy);
    if at.x >= size.across || at.y >= size.down {
        return;
    }
    // The border repeats the edge.
    let block = clamp(at, vec2(1), vec2(size.across, size.down) - 2) - 1;
    let first = block * BLOCK;
    let end = min(first + BLOCK, vec2(size.width, size.height));
    var sum = vec3(0.0);
    for (var y = first.y; y < end.y; y++) {
        for (var x = first.x; x < end.x; x++) {
            sum += textureLoad(picture, vec2(x, y), 0).xyz;
        }
    }
    let pixels = (end - first).x * (end - first).y;
    one[at.y * size.across + at.x] = vec4(sum / f32(pixels), 0.0);
}

fn place(x: i32, y: i32) -> i32 {
    return clamp(y, 0, size.down - 1) * size.across + clamp(x, 0, size.across - 1);
}

@compute @workgroup_size(64)
fn near_across(@builtin(global_invocation_id) id: vec3<u32>) {
    let nth = i32(id.x);
    if nth >= size.across * size.down {
        return;
    }
    var sum = one[nth] * NEAR_KERNEL[0];
    for (var k = 1; k < 4; k++) {
        let x = nth % size.across;
        let y = nth / size.across;
        sum += (one[place(x - k, y)] + one[place(x + k, y)]) * NEAR_KERNEL[k];
    }
    two[nth] = sum;
}

@compute @workgroup_size(64)
fn near_down(@builtin(global_invocation_id) id: vec3<u32>) {
    let nth = i32(id.x);
    if nth >= size.across * size.down {
        return;
    }
    var sum = two[nth] * NEAR_KERNEL[0];
    for (var k = 1; k < 4; k++) {
        let x = nth % size.across;
        let y = nth / size.across;
        sum += (two[place(x, y - k)] + two[place(x, y + k)]) * NEAR_KERNEL[k];
    }
    one[nth] = sum;
}

@compute @workgroup_size(64)
fn far_across(@builtin(global_invocation_id) id: vec3<u32>) {
    let nth = i32(id.x);
    if nth >= size.across * size.down {
        return;
    }
    var sum = one[nth] * FAR_KERNEL[0];
    for (var k = 1; k < FAR_REACH; k++) {
        let x = nth % size.across;
        let y = nth / size.across;
        sum += (one[place(x - k, y)] + one[place(x + k, y)]) * FAR_KERNEL[k];
    }
    two[nth] = sum;
}

@compute @workgroup_size(64)
fn far_down(@builtin(global_invocation_id) id: vec3<u32>) {
    let nth = i32(id.x);
    if nth >= size.across * size.down {
        return;
    }
    var sum = two[nth] * FAR_KERNEL[0];
    for (var k = 1; k < FAR_REACH; k++) {
        let x = nth % size.across;
        let y = nth / size.across;
        sum += (two[place(x, y - k)] + two[place(x, y + k)]) * FAR_KERNEL[k];
    }
    three[nth] = (one[nth] + sum) * 0.5;
}

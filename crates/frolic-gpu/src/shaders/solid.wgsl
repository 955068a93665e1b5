// Surfaces of ribbons and meshes: colours at the vertices, shaded once a pixel, tested by samples.

// A quadratic curve: root, control point and tip, both relative to the root.
struct Curve {
    root: vec3<f32>,
    middle: vec3<f32>,
    tip: vec3<f32>,
}

fn curve_at(curve: Curve, t: f32) -> vec3<f32> {
    return curve.root + curve.middle * (t * 2.0 * (1.0 - t)) + curve.tip * (t * t);
}

// Curve of an element. A blade that appears grows with its width.
fn own_curve(e: Element, body: Body) -> Curve {
    let share = select(1.0, body.left, e.length > 0.0);
    return Curve(body.at, e.middle * share, e.tip * share);
}

// Half the derivative.
fn curve_way(curve: Curve, t: f32) -> vec3<f32> {
    return curve.middle * (1.0 - t * 2.0) + curve.tip * t;
}

// Direction of a blade's width.
fn side_of(e: Element) -> vec3<f32> {
    return vec3(cos(e.turn.x), 0.0, -sin(e.turn.x));
}

struct Surface {
    @builtin(position) clip: vec4<f32>,
    // Colours are linear on the screen: multiplied by the clip space's w, and divided again in the fragment.
    @location(0) base: vec3<f32>,
    @location(1) sun: vec3<f32>,
    @location(2) uv: vec2<f32>,
    @location(3) @interpolate(flat) region: u32,
    @location(4) @interpolate(flat) cover: f32,
    // 1 if back faces are hidden by the mesh itself.
    @location(5) @interpolate(flat) closed: u32,
}

// Colours of solid surfaces are without their opacity.
fn own_colours(surface: Surface) -> Surface {
    var out = surface;
    if SOLID && out.cover > 0.0 {
        out.base /= out.cover;
        out.sun /= out.cover;
        out.cover = 1.0;
    }
    out.base *= out.clip.w;
    out.sun *= out.clip.w;
    return out;
}

struct Shaded {
    @location(0) colour: vec4<f32>,
    @builtin(sample_mask) mask: u32,
}

// Coverage mask of a texel's opacity.
fn samples_of(opaque: f32) -> u32 {
    var mask = 0u;
    for (var s = 0u; s < 4u; s++) {
        if opaque > 0.5 + (f32(s) - 1.5) * 0.125 {
            mask |= 1u << s;
        }
    }
    return mask;
}

fn texel_of(in: Surface) -> vec4<f32> {
    let uv = clamp(in.uv, vec2(0.0), vec2(1.0));
    let across = dpdx(in.uv);
    let down = dpdy(in.uv);
    if in.region == NONE {
        return vec4(1.0);
    }
    let size = region_size(in.region);
    let texels = sqrt(abs(across.x * down.y - across.y * down.x) * size.x * size.y);
    let texel = look_up(in.region, uv, texels);
    return vec4(texel.xyz / max(texel.w, 1e-4), texel.w);
}

// Share of sunlight at a pixel: the mean of its covered samples, of which those at the depth of the previous one reuse
// its result.
fn sunlit_at(clip: vec4<f32>, covered: u32) -> f32 {
    let across = dpdx(clip.w);
    let down = dpdy(clip.w);
    var all = 0.0;
    var count = 0.0;
    var lit = 1.0;
    var before = 0.0;
    for (var s = 0; s < 4; s++) {
        if (covered >> u32(s) & 1u) == 0u {
            continue;
        }
        let off = SAMPLE_PLACES[s];
        // Rounding may move a grazing plane behind the camera.
        let depth = 1.0 / max(clip.w + across * off.x + down * off.y, clip.w * 0.25);
        if abs(before - depth) > depth * AS_DEEP {
            lit = sunlit(point_behind(clip.xy + off, depth));
        }
        before = depth;
        all += lit;
        count += 1.0;
    }
    return all / max(count, 1.0);
}

fn shade(in: Surface, covered: u32) -> Shaded {
    let texel = texel_of(in);
    var colour = max(in.base * in.clip.w, vec3(0.0));
    if has(SHADOWED) {
        colour += max(in.sun * in.clip.w, vec3(0.0)) * sunlit_at(in.clip, covered);
    }
    var mask = 0xfu;
    if has(CUT_OUT) {
        mask = samples_of(texel.w);
    }
    return Shaded(vec4(colour * texel.xyz, in.cover), mask);
}

@fragment
fn fragment(in: Surface, @builtin(front_facing) front: bool, @builtin(sample_mask) covered: u32) -> Shaded {
    let shaded = shade(in, covered);
    if FACES && in.closed != 0u && !front {
        discard;
    }
    return shaded;
}

@fragment
fn fragment_external(in: Surface, @builtin(front_facing) front: bool) -> @location(0) vec4<f32> {
    let shaded = shade(in, 1u);
    if FACES && in.closed != 0u && !front {
        discard;
    }
    if has(CUT_OUT) && (shaded.mask & 6u) == 0u {
        discard;
    }
    return shaded.colour * vec4(vec3(frame.exposure), 1.0);
}

// Slope bias of the shadow map: a slanting surface would shade itself between texels.
@fragment
fn fragment_shadow(in: Surface, @builtin(front_facing) front: bool) -> @builtin(frag_depth) f32 {
    let slope = (abs(dpdx(in.clip.z)) + abs(dpdy(in.clip.z))) * 1.5;
    let texel = texel_of(in);
    if (has(CUT_OUT) && texel.w <= 0.5) || (FACES && in.closed != 0u && !front) {
        discard;
    }
    return max(in.clip.z - min(slope, frame.most_slope), 0.0);
}

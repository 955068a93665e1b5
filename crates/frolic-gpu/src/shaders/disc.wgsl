// Round soft billboards: a pixel at distance d from the centre has coverage (1 - d²/R²)².

struct Disc {
    @builtin(position) clip: vec4<f32>,
    // Position within the disc, -1 to 1.
    @location(0) off: vec2<f32>,
    // Light and opacity at full coverage.
    @location(1) @interpolate(flat) paint: vec4<f32>,
    // Depth, in metres.
    @location(2) @interpolate(flat) depth: f32,
}

fn disc_of(element: u32) -> Lit {
    var lit: Lit;
    if has(MERGED) {
        return merged_at(element, 0u);
    }
    let body = body_of(element_at(element));
    if !body.there {
        return lit;
    }
    lit.at = body.at;
    lit.radius = body.size;
    lit.colour = body.colour * body.opacity;
    if has(LIT_BY_SCENE) {
        lit.colour *= light_on_soft(draw.lit, body.at);
    }
    lit.cover = cover(body.opacity);
    return lit;
}

@vertex
fn vertex(@builtin(vertex_index) vertex: u32, @builtin(instance_index) instance: u32) -> Disc {
    var out: Disc;
    out.clip = NOWHERE;
    let at = which(vertex, instance);
    let lit = disc_of(at.element);
    let place = local(frame.view, lit.at);
    let scale = scale_at(place.z);
    let wanted = lit.radius * scale;
    if !(place.z > NEAR && wanted > 0.0 && wanted < 1e9) {
        return out;
    }
    let radius = max(wanted, SMALLEST);
    let share = wanted / radius;
    let weight = share * share * min((place.z - NEAR) / NEAR_FADE, 1.0);
    let paint = vec4(lit.colour, lit.cover) * weight;
    let strength = dot(paint, vec4(1.0));
    if !(strength > 0.0 && strength < 3e38) {
        return out;
    }
    let middle = screen(place);
    out.off = corner_of(at.vertex) * 2.0 - 1.0;
    out.paint = paint;
    out.depth = place.z;
    out.clip = clip_at(middle + out.off * radius, place.z);
    return out;
}

fn shade(in: Disc) -> vec4<f32> {
    let t = max(1.0 - dot(in.off, in.off), 0.0);
    var share = t * t;
    if has(DEPTH_TEST) && SOFT {
        share *= soft_share(in.clip.xy, in.depth, draw.per_soft);
    }
    return in.paint * share;
}

@fragment
fn fragment(in: Disc) -> @location(0) vec4<f32> {
    return shade(in);
}

// Into an external pass.
@fragment
fn fragment_external(in: Disc) -> @location(0) vec4<f32> {
    return shade(in) * vec4(vec3(frame.exposure), 1.0);
}

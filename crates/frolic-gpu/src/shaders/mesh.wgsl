// Triangles of meshes and of solid billboards.

fn corner_place(nth: u32) -> vec4<f32> {
    return bitcast<vec4<f32>>(tables[nth]);
}

fn billboard_corner(e: Element, corner: vec2<f32>) -> Lit {
    var lit: Lit;
    let body = body_of(e);
    if !is_sized(body) {
        lit.radius = -1.0;
        return lit;
    }
    let axes = billboard_axes(e, body);
    lit.at = body.at + axes.across * (corner.x * 2.0 - 1.0) - axes.upward * (corner.y * 2.0 - 1.0);
    lit.corner = corner;
    let own = body.colour * along(1.0 - corner.y) * body.opacity;
    let light = light_vertex(own, lit.at, -frame.view.forward);
    lit.colour = light.base;
    lit.sun = light.sun;
    lit.cover = cover(body.opacity);
    return lit;
}

fn mesh_corner(e: Element, body: Body, nth: u32) -> Lit {
    var lit: Lit;
    let one = corner_place(nth * 2u);
    let two = corner_place(nth * 2u + 1u);
    var normal: vec3<f32>;
    if e.length > 0.0 {
        // As long as the blade from its origin to height 1, bent along its curve.
        let curve = own_curve(e, body);
        let high = e.length * body.left;
        let t = clamp(one.y, 0.0, 1.0);
        let upward = unit_or_up(curve_way(curve, t));
        let front = unit_or_up(cross(side_of(e), upward));
        let right = cross(upward, front);
        let wide = one.xz * (high * body.wide);
        lit.at = curve_at(curve, t) + right * wide.x + front * wide.y + upward * ((one.y - t) * high);
        normal = right * two.x + upward * two.y + front * two.z;
    } else {
        let turn = turn_of(e, body.random);
        var place = one.xyz;
        normal = two.xyz;
        if e.wave.x > 0.0 {
            // Waves along the body: frolic-raster/src/surfaces.rs.
            let t = clamp((e.wave.w - place.z) * e.wave_per_length, 0.0, 1.0);
            let turn = TAU * (e.wave.y - t * e.wave.z);
            let grown = t * t * 0.85 + t * 0.1 + 0.05;
            place.x += grown * sin(turn) * e.wave.x;
            let lean = (cos(turn) * grown * e.wave.z * TAU - (t * 1.7 + 0.1) * sin(turn)) * e.wave.x * e.wave_per_length;
            normal = normalize(vec3(normal.xy, normal.z - normal.x * lean));
        }
        lit.at = turn * place * body.size + body.at;
        normal = turn * normal;
    }
    lit.cover = cover(body.opacity);
    lit.corner = vec2(one.w, two.w);
    let own = body.colour * body.opacity * along(1.0 - two.w);
    let light = hazed(light_vertex(own, lit.at, normal), lit.at, lit.cover);
    lit.colour = light.base;
    lit.sun = light.sun;
    return lit;
}

fn index_at(nth: u32) -> u32 {
    return tables[nth / 4u][nth % 4u];
}

fn finish(lit: Lit, region: u32) -> Surface {
    var out: Surface;
    out.clip = clip_of(local(frame.view, lit.at));
    out.base = lit.colour;
    out.sun = lit.sun;
    out.cover = lit.cover;
    out.uv = lit.corner;
    out.region = region;
    return own_colours(out);
}

@vertex
fn vertex(@builtin(vertex_index) vertex: u32, @builtin(instance_index) instance: u32) -> Surface {
    var out: Surface;
    out.clip = NOWHERE;
    let at = which(vertex, instance);
    let e = element_at(at.element);
    if draw.form == BILLBOARD {
        let region = frames_of(e.age, e.id).one;
        if has(MERGED) {
            // Corners go round; both halves meet from the upper left to the lower right.
            let lit = merged_at(at.element, array(0u, 1u, 2u, 0u, 2u, 3u)[at.vertex]);
            if lit.cover > 0.0 {
                return finish(lit, region);
            }
            return out;
        }
        let corner = corner_of(at.vertex);
        let lit = billboard_corner(e, vec2(1.0 - corner.x, corner.y));
        if lit.radius < 0.0 {
            return out;
        }
        return finish(lit, region);
    }
    let body = body_of(e);
    if !is_sized(body) {
        return out;
    }
    let coarse = body.level != FULL;
    out.closed = select(draw.closed & 1u, draw.closed >> 1u, coarse);
    if at.vertex >= select(draw.fine_count, draw.coarse_count, coarse) {
        return out;
    }
    let nth = index_at(select(draw.fine_index, draw.coarse_index, coarse) + at.vertex);
    if has(MERGED) {
        let closed = out.closed;
        out = finish(merged_at(at.element, nth), draw.region);
        out.closed = closed;
        return out;
    }
    let closed = out.closed;
    out = finish(mesh_corner(e, body, select(draw.fine_vertex, draw.coarse_vertex, coarse) + nth), draw.region);
    out.closed = closed;
    return out;
}

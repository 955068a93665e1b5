// Ribbons: cross sections on the screen, joined. Inner sections follow the bisector; those of upright ribbons are level: see
// frolic-raster/src/sections.rs.

fn curve_of(e: Element, body: Body) -> Curve {
    if e.curved {
        return own_curve(e, body);
    }
    let tip = turn_of(e, body.random) * vec3(0.0, draw.length * body.size, 0.0);
    return Curve(body.at, vec3(tip.x * 0.25, tip.y * 0.5 + length(tip) * 0.1, tip.z * 0.25), tip);
}

fn direction(v: vec2<f32>, otherwise: vec2<f32>) -> vec2<f32> {
    let square = dot(v, v);
    if square > 0.0 && square < 1e30 {
        return v * inverseSqrt(square);
    }
    return otherwise;
}

@vertex
fn vertex(@builtin(vertex_index) vertex: u32, @builtin(instance_index) instance: u32) -> Surface {
    var out: Surface;
    out.clip = NOWHERE;
    let at = which(vertex, instance);
    let e = element_at(at.element);
    let body = body_of(e);
    if !is_sized(body) {
        return out;
    }
    var nth = at.vertex / 2u;
    var side = at.vertex % 2u;
    if has(MERGED) {
        let k = array(0u, 1u, 2u, 2u, 1u, 3u)[at.vertex % 6u];
        nth = at.vertex / 6u + k / 2u;
        side = k % 2u;
    }
    let count = select(draw.points, draw.points_coarse, body.level != FULL);
    var curve: Curve;
    if !has(MERGED) {
        curve = curve_of(e, body);
    }
    // Points in front of the camera: x, y, depth, half width in pixels. Points behind it are left out.
    var points: array<vec4<f32>, MOST_POINTS>;
    var names: array<u32, MOST_POINTS>;
    var kept = 0u;
    for (var k = 0u; k < count; k++) {
        let t = f32(k) / f32(count - 1u);
        var place: vec3<f32>;
        var radius = (1.0 + t * (draw.tip - 1.0)) * body.size;
        if has(MERGED) {
            let lit = merged_at(at.element, k * 2u);
            place = lit.at;
            radius = lit.radius;
        } else {
            place = curve_at(curve, t);
        }
        let seen = local(frame.view, place);
        if is_level() || seen.z > NEAR {
            points[kept] = vec4(screen(seen), seen.z, radius * scale_at(seen.z));
            names[kept] = k;
            kept++;
        }
    }
    if kept < 2u {
        return out;
    }
    let down = select(-1.0, 1.0, points[kept - 1u].y >= points[0].y);
    var upright = true;
    for (var k = 0u; k < kept; k++) {
        if !(abs(points[k].x) < 1e7 && abs(points[k].y) < 1e7) {
            return out;
        }
        if k + 1u < kept {
            let step = points[k + 1u].xy - points[k].xy;
            let rise = step.y * down;
            upright = upright && rise > LEAST_RISE && rise * MOST_LEAN > abs(step.x);
        }
    }
    nth = min(nth, kept - 1u);
    let here = points[nth];
    var after = vec2(0.0, 1.0);
    if nth + 1u < kept {
        after = direction(points[nth + 1u].xy - here.xy, vec2(0.0, 1.0));
    }
    var before = after;
    if nth > 0u {
        before = direction(here.xy - points[nth - 1u].xy, vec2(0.0, 1.0));
        if nth + 1u == kept {
            after = before;
        }
    }
    let way = direction(before + after, after);
    let half = select(0.0, max(here.w, THINNEST), here.w > 0.0);
    var across = vec2(-way.y, way.x) * (half / max(dot(way, after), 0.5));
    if upright {
        across = vec2(half / abs(way.y), 0.0);
    }
    out.clip = clip_at(here.xy + across * select(-1.0, 1.0, side == 1u), here.z);
    let t = f32(names[nth]) / f32(count - 1u);
    if has(MERGED) {
        let lit = merged_at(at.element, names[nth] * 2u);
        out.base = lit.colour;
        out.sun = lit.sun;
        out.cover = lit.cover;
    } else {
        let place = curve_at(curve, t);
        let tangent = curve_way(curve, t);
        let aside = cross(tangent, frame.camera.place - place);
        var normal = unit_or_up(cross(aside, tangent));
        if e.length > 0.0 {
            // The blade's flat side, bent towards the camera if it is round.
            let flat = unit_or_up(cross(side_of(e), tangent));
            let own = select(1.0, -1.0, dot(flat, normal) < 0.0) * (1.0 - draw.round);
            normal = unit_or_up(flat * own + normal * draw.round);
        }
        let covers = cover(body.opacity);
        let light = hazed(light_vertex(body.colour * body.opacity * along(t), place, normal), place, covers);
        out.base = light.base;
        out.sun = light.sun;
        out.cover = covers;
    }
    out.region = NONE;
    return own_colours(out);
}

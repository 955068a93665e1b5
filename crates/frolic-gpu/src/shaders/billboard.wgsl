// Orientation of a billboard about the line of sight.

struct BillboardAxes {
    // Half axes across and up, in metres.
    across: vec3<f32>,
    upward: vec3<f32>,
}

fn billboard_axes(e: Element, body: Body) -> BillboardAxes {
    let right = frame.view.right;
    let up = frame.view.up;
    let seen = vec2(dot(e.velocity, right), dot(e.velocity, up));
    let speed = length(seen);
    var turn = vec2(0.0, 1.0);
    var longer = 0.0;
    if draw.facing == FACING_SPIN {
        turn = sin_cos_turn(body.random.y + mix(draw.face_a, draw.face_b, body.random.x) * body.age / 360.0);
    } else if draw.facing >= FACING_HEADING && speed >= 1e-6 {
        turn = vec2(-seen.x, seen.y) / speed;
        longer = select(0.0, speed * draw.face_a * 0.5, draw.facing == FACING_STRETCH);
    }
    return BillboardAxes(
        (right * turn.y + up * turn.x) * body.size,
        (up * turn.y - right * turn.x) * (body.size * draw.aspect + longer),
    );
}

//! Which elements see each other, in the view of the camera.

use frolic_draw::{Image, View};
use glam::{Vec2, Vec3};

use crate::plan::{Mark, pixels_around, sight_legend, stroke};
use crate::show::{Canvas, on_scale};

/// Darkest share of a colour, of the farthest element.
const FAR: f32 = 0.22;

/// Draws elements in a view by how many others each sees, the `tint` of its mark over `most`, and links from some to those that they see: two ends each, in
/// metres. `heights` has the y of each mark. Near ones are brighter.
pub fn neighbours_in_view(
    name: &str,
    marks: &[Mark],
    heights: &[f32],
    most: f32,
    links: &[[[f32; 3]; 2]],
    view: &View,
    image: &mut Image,
) {
    let mut canvas = Canvas::empty(view.size());
    let focal = view.parts().focal;
    let project = |at: [f32; 3]| view.project(at).filter(|at| at.iter().all(|axis| axis.is_finite()));
    let mut seen: Vec<([f32; 3], &Mark)> = marks
        .iter()
        .zip(heights)
        .filter_map(|(mark, y)| Some((project([mark.place[0], *y, mark.place[1]])?, mark)))
        .collect();
    seen.sort_by(|(a, _), (b, _)| b[2].total_cmp(&a[2]));
    let (far, near) = (seen.first().map_or(1.0, |it| it.0[2]), seen.last().map_or(0.0, |it| it.0[2]));
    let nearness = |depth: f32| 1.0 - (depth - near) / (far - near).max(1e-6);
    for ([x, y, depth], mark) in &seen {
        let tone = on_scale(0.12 + 0.85 * mark.tint) * (FAR + (1.0 - FAR) * nearness(*depth));
        spot(&mut canvas, Vec2::new(*x, *y), (mark.radius * 0.45 * focal / depth).clamp(0.8, 20.0), tone);
    }
    for [a, b] in links {
        if let (Some(a), Some(b)) = (project(*a), project(*b)) {
            stroke(&mut canvas.picture, Vec2::new(a[0], a[1]), Vec2::new(b[0], b[1]));
        }
    }
    canvas.finish(&sight_legend(name, marks.len(), most, "in view"), image);
}

/// Draws an antialiased spot.
fn spot(canvas: &mut Canvas, at: Vec2, radius: f32, tone: Vec3) {
    let Some([low, high]) = pixels_around(canvas.picture.size(), at, radius + 1.0) else { return };
    for y in low.y as usize..=high.y as usize {
        for x in low.x as usize..=high.x as usize {
            let off = Vec2::new(x as f32 + 0.5, y as f32 + 0.5) - at;
            let share = (radius + 0.5 - off.length()).clamp(0.0, 1.0);
            let pixel = canvas.picture.pixel_mut(x, y);
            *pixel = Vec3::from(*pixel).lerp(tone, share).to_array();
        }
    }
}

//! Units on a circle that all go to the opposite side at once: both techniques of avoidance, and the paths of the units.
//!
//! `cargo run --release -p frolic --example circle_of_goals [FILE] [COUNT]` prints how long it took and how much they overlapped, and draws the paths by velocities
//! (left) and by forces (right) into FILE (circle_of_goals.png).

use frolic::crowd::{AvoidanceTechnique, Crowd, CrowdSpec, GoalSpec};
use frolic::drawing::{BackdropSpec, Instances, ListScratch, ListSpec, Poses, Surroundings};
use frolic::prelude::*;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let mut words = std::env::args().skip(1);
    let file = words.next().unwrap_or_else(|| "circle_of_goals.png".into());
    let count: u32 = words.next().map_or(Ok(120), |word| word.parse())?;
    let across = (count as f32 * 0.14).max(4.0);
    let mut sheet = Image::new(ImageSize::new(1280, 800)?);
    println!("  avoidance      seconds  overlaps  deepest");
    for (nth, avoidance) in
        [AvoidanceTechnique::Velocities, AvoidanceTechnique::Forces].into_iter().enumerate()
    {
        let (mut crowd, mut paths) = (circle(avoidance, count, across)?, Paths::default());
        let (world, mut meter) = (WorldSpec::default().build()?, Meter::new());
        let (mut seconds, mut overlaps, mut deepest) = (0.0, 0, 0.0f32);
        while crowd.gauges().arrived < u64::from(count) && seconds < 200.0 {
            crowd.step(&world, 0.1, &mut meter)?;
            seconds += 0.1;
            overlaps += crowd.gauges().overlaps;
            deepest = deepest.max(crowd.gauges().deepest);
            paths.note(&crowd);
        }
        let name = format!("{avoidance:?}").to_lowercase();
        println!("  {name:12} {seconds:9.1} {overlaps:9} {:5.0} mm", deepest * 1e3);
        let picture = paths.draw(across)?;
        for (row, pixels) in picture.pixels().chunks_exact(640).enumerate() {
            sheet.pixels_mut()[row * 1280 + nth * 640..][..640].copy_from_slice(pixels);
        }
    }
    write_png(&file, &sheet)?;
    println!("wrote {file}");
    Ok(())
}

/// Units evenly spaced on a circle, each with the opposite place as its goal.
fn circle(avoidance: AvoidanceTechnique, count: u32, across: f32) -> Result<Crowd, SpecError> {
    let mut spec = CrowdSpec::default().goal(GoalSpec::Across([0.0; 3])).avoidance(avoidance);
    (spec.close, spec.acceleration, spec.turn_degrees) = (0.2, 100.0, 5_000.0);
    let mut crowd = Crowd::new(&spec, count, Span::from(0.25), 7)?;
    crowd.edit(|edit| {
        let [px, pz, gx, gz] = edit.floats(["px", "pz", "gx", "gz"])?;
        for nth in 0..count as usize {
            let (sin, cos) = (nth as f32 / count as f32 * std::f32::consts::TAU).sin_cos();
            (px[nth], pz[nth]) = (cos * across, sin * across);
            (gx[nth], gz[nth]) = (-cos * across, -sin * across);
        }
        Ok(())
    })?;
    Ok(crowd)
}

/// Where units were, and the colour of each: the direction of its goal.
#[derive(Default)]
struct Paths {
    at: [Vec<f32>; 3],
    tint: Vec<f32>,
    size: Vec<f32>,
}

impl Paths {
    fn note(&mut self, crowd: &Crowd) {
        let ([x, _, z], own) = (crowd.columns().position(), crowd.own_columns());
        // What was the newest becomes a part of the path.
        self.size.fill(0.06);
        for nth in 0..crowd.len() {
            self.at[0].push(x[nth]);
            self.at[1].push(0.0);
            self.at[2].push(z[nth]);
            self.tint.push(own.gz()[nth].atan2(own.gx()[nth]) / std::f32::consts::TAU + 0.5);
            self.size.push(0.25);
        }
    }

    /// Draws them from above.
    fn draw(&self, across: f32) -> Result<Image, Box<dyn std::error::Error>> {
        let mut look = LookSpec::covering([(0.0, "#ffffff")])?;
        let around = ["#ff6b5e", "#ffb04f", "#e8e06a", "#62d493", "#4fb3ff", "#a98bff", "#ff6b5e"];
        look.tints = around.iter().filter_map(|hex| Colour::hex(hex)).collect();
        look.lit = 0.0;
        let look = look.build()?;
        let mut backdrop = BackdropSpec::default();
        let night = Colour::new(0.004, 0.006, 0.011);
        (backdrop.sky.zenith, backdrop.sky.horizon) = (night, night);
        (backdrop.ground, backdrop.water) = (None, None);
        let mut camera = CameraSpec::new([0.0, across * 4.2, 0.01], [0.0; 3], 36.0);
        camera.exposure = 2.2;
        let view = camera.view(ImageSize::new(640, 800)?)?;
        let mut poses = Poses::at(self.at.each_ref().map(|column| &column[..]));
        (poses.size, poses.tint) = (Some(&self.size[..]), Some(&self.tint[..]));
        let (mut scratch, mut meter) = (ListScratch::default(), Meter::new());
        let all = [(Instances::posed(poses, 0.0)?, &look)];
        let list = scratch.list(all, &ListSpec::default(), &view, &Surroundings::new(&backdrop), &mut meter);
        let mut image = Image::new(view.size());
        Renderer::new().render(&list, &view, &backdrop, &mut image, &mut meter);
        Ok(image)
    }
}

//! Six ways to put the same thousand things, each seen from above: a grid that strays, blue noise, rings about two centres, the brightness of a
//! picture, clumps away from a path, a hill above its wet foot.
//!
//! `cargo run --release -p frolic --example place_anything [FOLDER]` writes `place_anything-1.png` to `-6.png` into FOLDER, or here.

use frolic::assets::{Asset, Assets, HillsSpec, Plane};
use frolic::diagnostics::{Mark, PlanView};
use frolic::placement::{ClumpSpec, FilterBy, FilterSpec, Placement, TerrainSpec};
use frolic::prelude::*;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let folder = std::path::PathBuf::from(std::env::args().nth(1).unwrap_or_default());
    let mut assets = Assets::default();
    assets.insert("hill", HillsSpec::default().asset()?);
    // A picture of light and dark stripes, brighter to the right.
    let stripes =
        (0..64 * 64).map(|n| ((n % 64) as f32 / 63.0) * (0.5 + 0.5 * ((n / 64) as f32 * 0.6).sin()));
    assets.insert("stripes", Asset::Plane(Plane::new(64, 64, stripes.collect())?.into()));

    let ground = |pattern| PlacementSpec::new(On::Ground(pattern)).area(AreaSpec::new([0.0; 2], [16.0, 9.6]));
    let even = || PatternSpec::BlueNoise { distance: 0.0 };
    let path = FilterBy::Path {
        points: vec![[-8.0, 3.0], [-2.0, 0.5], [2.0, 1.0], [8.0, -3.5]],
        closed: false,
        width: 0.8,
        soft: 0.8,
    };
    let picture = FilterBy::Picture { asset: "stripes".into(), centre: [0.0; 2], size: [16.0, 9.6] };
    let dry = FilterBy::Height { range: Span::new(1.6, 9.0), soft: 0.5 };
    let rings = PatternSpec::Rings {
        centres: vec![[-5.0, 0.0], [5.0, 0.5]],
        spacing: 0.42,
        swell: 0.10,
        period: 6.0,
    };
    let layouts = [
        ("stakes", ground(PatternSpec::Grid { spacing: [0.0; 2], jitter: 0.45, turn_degrees: 12.0 })),
        ("seedlings", ground(even())),
        ("stones", ground(rings)),
        ("lichen", ground(even()).filter(FilterSpec::new(picture))),
        ("marram", ground(even()).filter(FilterSpec::new(path).inverted()).clumps(ClumpSpec::new(1.6))),
        (
            "thrift",
            ground(even()).terrain(TerrainSpec::new("hill", [18.0, 11.0], 4.0)).filter(FilterSpec::new(dry)),
        ),
    ];
    let mut image = Image::new(ImageSize::new(1280, 800)?);
    for (nth, (name, layout)) in layouts.into_iter().enumerate() {
        let placement = Placement::new(&[layout], Some(1_000), 7, &assets)?;
        let placed = placement.all();
        let marks: Vec<Mark> = (0..placed.len())
            .filter_map(|n| placed.row(n))
            .map(|row| Mark {
                place: [row.px, row.pz],
                turn: row.turn,
                radius: 0.06,
                tint: row.tint,
                kind: 0,
            })
            .collect();
        let [low, high] = placement.extent();
        let height = |x: f32, z: f32| placement.ground(x, z).map(|footing| footing.y);
        let hilly = (name == "thrift").then_some(&height as &dyn Fn(f32, f32) -> Option<f32>);
        PlanView::of(low, high, image.size()).placement(name, &marks, hilly, &mut image);
        let file = folder.join(format!("place_anything-{}.png", nth + 1));
        write_png(&file, &image)?;
        println!("{}: {} of {name}", file.display(), placed.len());
    }
    Ok(())
}

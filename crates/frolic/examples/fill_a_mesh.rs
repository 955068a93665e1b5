//! From a mesh to a distance grid to elements inside of it, on it and drawn to it.
//!
//! `cargo run --release -p frolic --example fill_a_mesh [FOLDER] [MESH]` bakes MESH (an `.obj`, `.gltf` or `.glb`; a ball if none is given)
//! and writes `fill_a_mesh.png` (three ways side by side) and `fill_a_mesh.dgrid` into FOLDER, or here.

use frolic::assets::{Asset, Assets, BakeSpec, Surface, read_grid, read_mesh, write_grid};
use frolic::drawing::{ListScratch, ListSpec, Surroundings};
use frolic::particles::VolumePart;
use frolic::prelude::*;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let mut args = std::env::args().skip(1);
    let folder = args.next().unwrap_or_default();
    let surface = match args.next() {
        Some(mesh) => read_mesh(mesh)?,
        None => Surface::ball(24),
    };
    // To a size of two metres about the origin.
    let [low, high] = surface.bounds();
    let (middle, scale) = ((low + high) * 0.5, 2.0 / (high - low).max_element());
    let surface = surface.placed(scale, 0.0, (-middle * scale).to_array())?;
    let grid = BakeSpec::new(64).bake(&surface)?;
    println!(
        "{} triangles, {:.3} m³ inside, {:?} points",
        surface.triangles().len(),
        grid.volume(),
        grid.points()
    );
    let path = std::path::Path::new(&folder).join("fill_a_mesh.dgrid");
    write_grid(&path, &grid)?;
    assert_eq!(read_grid(&path)?, grid);

    let mut assets = Assets::default();
    assets.insert("body", Asset::Distance(grid.into()));
    let burst = |shape| EmitterSpec::burst(12_000, 0.0).shape(shape).speed(0.0, 0.0);
    let volume = |part| ShapeSpec::Volume { asset: "body".into(), part };
    let still = ParticleSpec::new(12_000).life(1e4, 1e4).size(0.008, 0.018).motion(0.0, 0.0);
    let ways = [
        ("inside", still.clone().emitter(burst(volume(VolumePart::Inside)))),
        ("on it", still.clone().emitter(burst(volume(VolumePart::Surface)))),
        // Scattered all about, then drawn to it.
        (
            "drawn to it",
            still
                .field(FieldSpec::shape("body", 25.0, 6.0))
                .emitter(burst(ShapeSpec::Box { size: [3.0; 3] })),
        ),
    ];
    let mut weightless = WorldSpec::default();
    weightless.gravity = [0.0; 3];
    let world = weightless.build_with(&assets)?;

    let look = LookSpec::glowing(1.0, [(0.0, "#ffb870")])?.opacity_over_age([(0.0, 0.5)]).build()?;
    let (mut list, mut renderer, mut meter) = (ListScratch::default(), Renderer::new(), Meter::new());
    let mut camera = CameraSpec::default();
    (camera.position, camera.target, camera.fov_degrees) = ([0.0, 2.4, 9.6], [0.0, -0.05, 0.0], 27.0);
    let view = camera.view(ImageSize::default())?;
    let mut columns: Vec<[Vec<f32>; 3]> = Vec::new();
    for (nth, (name, spec)) in ways.iter().enumerate() {
        let mut elements = Particles::with_assets(spec, 1, Storage::Columns, &assets)?;
        elements.step(&world, 1.0 / 60.0, 60 * 6, &mut meter);
        println!("{name:12} {} elements", elements.len());
        let [x, y, z] = elements.columns().position();
        columns.push([x.iter().map(|x| x + (nth as f32 - 1.0) * 2.5).collect(), y.to_vec(), z.to_vec()]);
    }
    let size = vec![0.013f32; 12_000];
    let instances: Result<Vec<Instances<'_>>, SpecError> =
        columns.iter().map(|[x, y, z]| Instances::at([x, y, z])?.sized(&size)).collect();
    let backdrop = BackdropSpec::plain(0.012);
    let around = Surroundings::new(&backdrop);
    let drawn = instances?.into_iter().map(|instances| (instances, &look));
    let list = list.list(drawn, &ListSpec::default(), &view, &around, &mut meter);
    let mut image = Image::new(ImageSize::default());
    renderer.render(&list, &view, &backdrop, &mut image, &mut meter);
    let path = std::path::Path::new(&folder).join("fill_a_mesh.png");
    write_png(&path, &image)?;
    println!("wrote {}", path.display());
    Ok(())
}

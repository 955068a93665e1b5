//! Meshes, distance grids and pictures from files: read as they are, refused where they are broken.

use std::fs;

use frolic_core::{BakeSpec, Meter, Surface};
use frolic_draw::{Font, Image, Picture};
use frolic_scene::{
    Folder, MemoryFile, Scene, SceneSpec, read_grid, read_grid_bytes, read_mesh, read_mesh_bytes,
    read_places, write_grid, write_png,
};
use proptest::prelude::*;

const TETRA: &str = "v 0 0 0\nv 1 0 0\nv 0 1 0\nv 0 0 1\nf 1 3 2\nf 1 2 4\nf 1 4 3\nf 2 3 4\n";

/// A glTF of one triangle, its node moved by (5, 0, 0); the buffer inline.
fn gltf(uri: &str) -> String {
    format!(
        r#"{{"asset":{{"version":"2.0"}},"scene":0,"scenes":[{{"nodes":[0]}}],"nodes":[{{"mesh":0,"translation":[5,0,0]}}],
        "meshes":[{{"primitives":[{{"attributes":{{"POSITION":0}}}}]}}],"buffers":[{{"byteLength":36,"uri":"{uri}"}}],
        "bufferViews":[{{"buffer":0,"byteLength":36}}],
        "accessors":[{{"bufferView":0,"componentType":5126,"count":3,"type":"VEC3","min":[0,0,0],"max":[1,1,0]}}]}}"#
    )
}

fn triangle() -> Vec<u8> {
    [0f32, 0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 1.0, 0.0].iter().flat_map(|value| value.to_le_bytes()).collect()
}

const INLINE: &str = "data:application/octet-stream;base64,AAAAAAAAAAAAAAAAAACAPwAAAAAAAAAAAAAAAAAAgD8AAAAA";

#[test]
fn meshes_are_read() {
    let tetra = read_mesh_bytes(TETRA.as_bytes(), "a.obj").unwrap();
    assert_eq!((tetra.corners().len(), tetra.triangles().len()), (4, 4));
    // Quads are cut; several objects are one mesh.
    let quads =
        "o a\nv 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nf 1 2 3 4\no b\nv 0 0 5\nv 1 0 5\nv 1 1 5\nf 5 6 7\n";
    assert_eq!(read_mesh_bytes(quads.as_bytes(), "b.OBJ").unwrap().triangles().len(), 3);
    let moved = read_mesh_bytes(gltf(INLINE).as_bytes(), "c.gltf").unwrap();
    assert_eq!(moved.corners()[1].to_array(), [6.0, 0.0, 0.0]);
    // With its buffer in a file beside it.
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("t.gltf"), gltf("t.bin")).unwrap();
    fs::write(folder.path().join("t.bin"), triangle()).unwrap();
    assert_eq!(read_mesh(folder.path().join("t.gltf")).unwrap().triangles(), [[0, 1, 2]]);
}

#[test]
fn broken_meshes_are_refused_by_name() {
    let told = |text: &str, name: &str| read_mesh_bytes(text.as_bytes(), name).unwrap_err().to_string();
    assert!(told("v 0 0\n", "a.obj").starts_with("a.obj: is not a readable OBJ file"));
    assert!(told("", "a.obj").contains("has no triangle"));
    assert!(told("v 0 0 0\nf 1 2 3\n", "a.obj").starts_with("a.obj: "));
    assert!(told("v nan 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n", "a.obj").contains("corner 0"));
    assert!(told(TETRA, "a.stl").contains("'stl' is not a mesh format; give an .obj"));
    assert!(told("{}", "a.gltf").starts_with("a.gltf: is not a readable glTF"));
    assert!(told(&gltf("data:text/plain,hello"), "a.gltf").contains("not base64"));
    assert!(told(&gltf("data:x;base64,AAAA"), "a.gltf").contains("is cut short: buffer 0 has 3 of 36 bytes"));
    for elsewhere in ["../secret.bin", "/etc/passwd"] {
        assert!(told(&gltf(elsewhere), "a.gltf").contains("not in its folder"), "{elsewhere}");
    }
    assert!(read_mesh("nowhere.obj").unwrap_err().to_string().starts_with("nowhere.obj: cannot be read"));
}

#[test]
fn grids_come_back_as_they_were_written() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("deep").join("ball.dgrid");
    let grid = BakeSpec::new(12).bake(&Surface::ball(4).placed(0.7, 0.0, [1.0, 2.0, 3.0]).unwrap()).unwrap();
    write_grid(&path, &grid).unwrap();
    assert_eq!(read_grid(&path).unwrap(), grid);
    // As the document says: two lines, then the values.
    let bytes = fs::read(&path).unwrap();
    assert!(bytes.starts_with(b"frolic distance grid 1\n{\"points\":["));
    let [nx, ny, nz] = grid.points();
    let head = bytes.iter().enumerate().filter(|(_, byte)| **byte == b'\n').nth(1).unwrap().0 + 1;
    assert_eq!(bytes.len() - head, nx * ny * nz * 4);
    let value = f32::from_le_bytes(bytes[head + 4 * (nx + 3)..][..4].try_into().unwrap());
    assert_eq!(value, grid.values()[nx + 3]);

    let told = |bytes: &[u8]| read_grid_bytes(bytes, "x.dgrid").unwrap_err().to_string();
    assert!(told(&bytes[..bytes.len() - 1]).contains("is cut short"));
    assert!(told(&[&bytes[..], b"x"].concat()).contains("has data after its points"));
    assert!(told(b"").contains("is not a distance grid"));
    assert!(told(b"frolic distance grid 2\n{}\n").contains("is of version '2'"));
    assert!(
        told(b"frolic distance grid 1\n{\"points\":[9,9]}\n").contains("has a header that cannot be read")
    );
    let huge =
        b"frolic distance grid 1\n{\"points\":[1000000,1000000,1000000],\"origin\":[0,0,0],\"cell\":1}\n";
    assert!(told(huge).contains("at most 2^28"));
    let flat = b"frolic distance grid 1\n{\"points\":[1,1,1],\"origin\":[0,0,0],\"cell\":1}\n\0\0\0\0";
    assert!(told(flat).contains("cannot be used: points"));
}

#[test]
fn scenes_name_assets_and_say_where_they_are_wrong() {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("tetra.obj"), TETRA).unwrap();
    let path = folder.path().join("s.toml");
    let scene = |asset: &str, shape: &str| {
        let text = format!(
            "frolic = 1\n[[asset]]\nname = \"body\"\n{asset}\n[[population]]\nname = \"dots\"\ncount = 500\n\
             [[population.emitter]]\nburst = {{ count = 500 }}\nshape = {shape}\nspeed = 0\n"
        );
        fs::write(&path, text).unwrap();
        SceneSpec::from_file(&path)
            .map_err(|error| error.to_string())
            .and_then(|spec| Scene::new(&spec).map_err(|error| error.to_string()))
    };
    let mut filled =
        scene("from = { mesh = \"tetra.obj\" }\nscale = 3.0\nbake = 32", "{ volume = { asset = \"body\" } }")
            .unwrap();
    filled.step(1e-3, 1, &mut Meter::new());
    let dots = filled.particles("dots").unwrap().columns();
    assert_eq!(dots.len(), 500);
    assert!((0..500).all(|i| dots.px()[i] + dots.py()[i] + dots.pz()[i] < 3.2 && dots.px()[i] > -0.1));
    let told = |asset: &str, shape: &str| scene(asset, shape).unwrap_err();
    let missing = told("from = { mesh = \"none.obj\" }", "\"point\"");
    assert!(
        missing.starts_with("asset.0.from.mesh: ") && missing.contains("name a file beside the scene file"),
        "{missing}"
    );
    let unbaked = told("from = { mesh = \"tetra.obj\" }", "{ volume = { asset = \"body\" } }");
    assert!(unbaked.contains("asset 'body' is a mesh, not a distance grid"), "{unbaked}");
    let coarse = told("from = { mesh = \"tetra.obj\" }\nbake = 2", "\"point\"");
    assert!(coarse.contains("s.toml:5: asset.0.bake: 2 is out of range"), "{coarse}");
    let picture = told("from = { brightness = \"tetra.obj\" }", "\"point\"");
    assert!(
        picture.contains("asset.0.from.brightness: ") && picture.contains("is not a readable PNG"),
        "{picture}"
    );
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    /// Whatever the bytes: an error or a mesh, never a panic.
    #[test]
    fn hostile_files_do_no_harm(cut in 0usize..800, at in 0usize..800, byte in any::<u8>(), ending in 0usize..3) {
        let grid = BakeSpec::new(4).bake(&Surface::ball(1)).unwrap();
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("g.dgrid");
        write_grid(&path, &grid).unwrap();
        let mut bytes = match ending {
            0 => TETRA.as_bytes().to_vec(),
            1 => gltf(INLINE).into_bytes(),
            _ => fs::read(path).unwrap(),
        };
        let last = bytes.len() - 1;
        bytes[at.min(last)] = byte;
        bytes.truncate(bytes.len() - cut.min(last));
        let _ = read_mesh_bytes(&bytes, ["a.obj", "a.gltf", "a.glb"][ending]);
        let _ = read_grid_bytes(&bytes, "a.dgrid");
    }
}

/// Whatever a spec names as a file may be handed over in memory, and looks the same as from a file.
#[test]
fn files_in_memory_are_as_good_as_files() {
    let folder = tempfile::tempdir().unwrap();
    let checks =
        Picture::paint([16, 16], |x, y| if (x / 4 + y / 4) % 2 == 0 { [255; 4] } else { [0, 0, 0, 255] });
    let checks = checks.unwrap();
    let mut image = Image::new("16x16".parse().unwrap());
    image.paint(|x, y| checks.pixels()[(y * 16 + x) as usize]);
    write_png(folder.path().join("checks"), &image).unwrap();
    fs::write(folder.path().join("tetra.obj"), TETRA).unwrap();
    let tetra = read_mesh_bytes(TETRA.as_bytes(), "tetra.obj").unwrap();
    let grid = BakeSpec::new(16).bake(&tetra).unwrap();
    write_grid(folder.path().join("tetra.dgrid"), &grid).unwrap();
    fs::write(folder.path().join("letters.ttf"), Font::shipped()).unwrap();
    let places = "x,y,z\n0,0,0\n1,0.5,0\n-1,0,0.5\n";
    fs::write(folder.path().join("spots.csv"), places).unwrap();
    let spots = read_places(folder.path().join("spots.csv")).unwrap().elements;

    let text = r##"
        frolic = 1
        draw.size = [160, 100]
        texture = [{ name = "board", file = "checks" }]
        sprite = [{ texture = "board", position = [0, 1, 0], size = [1, 1] }]
        text = [{ text = "abc", position = [-2, 3, 0], size = 0.6, font = "letters.ttf" }]
        asset = [
            { name = "mesh", from = { mesh = "tetra.obj" } },
            { name = "grid", from = { grid = "tetra.dgrid" } },
            { name = "light", from = { brightness = "checks" } },
            { name = "spots", from = { places = "spots.csv" } },
        ]
        [[population]]
        name = "dust"
        count = 300
        look.glow = 3.0
        emitter = [
            { rate = 200.0, shape = { mesh = { asset = "mesh" } } },
            { rate = 100.0, shape = { places = { asset = "spots" } } },
        ]
        [[population.field]]
        kind = { shape = { asset = "grid" } }
    "##;
    let spec = SceneSpec::parse(text, "it").unwrap();
    let draw = |spec: &SceneSpec| {
        let (mut scene, mut meter) = (Scene::new(spec).unwrap(), Meter::new());
        scene.run_to(1.0, &mut meter);
        scene.draw(&mut meter).unwrap().clone()
    };
    let mut from_files = spec.clone();
    from_files.folder = Folder::At(folder.path().to_owned());
    let handed = spec
        .with_file("checks", Picture::from(&image))
        .with_file("tetra.obj", tetra)
        .with_file("tetra.dgrid", grid)
        .with_file("letters.ttf", Font::shipped().to_vec())
        .with_file("spots.csv", spots);
    assert!(draw(&from_files).pixels() == draw(&handed).pixels());
    let mut files = handed.files();
    files.sort_unstable();
    assert_eq!(files, ["checks", "checks", "letters.ttf", "spots.csv", "tetra.dgrid", "tetra.obj"]);

    // A change keeps what was handed over; another content of the same name is another scene.
    let changed = handed.set("draw.at", "2").unwrap();
    assert_eq!(changed.folder, handed.folder);
    Scene::new(&changed).unwrap();
    let white = Picture::paint([4, 4], |_, _| [255; 4]).unwrap();
    let other = handed.clone().with_file("checks", white);
    assert!(other != handed && draw(&other).pixels() != draw(&handed).pixels());
    // What is not in memory is still looked for beside the scene.
    let mut half = from_files.clone();
    half = half.with_file("letters.ttf", Font::shipped().to_vec());
    Scene::new(&half).unwrap();
}

/// Another kind than the one that a key wants, or nothing at all: told by key, with what is there.
#[test]
fn files_in_memory_of_another_kind_are_refused() {
    let told = |text: &str, file: MemoryFile| {
        let spec = SceneSpec::parse(text, "it").unwrap().with_file("it", file);
        Scene::new(&spec).unwrap_err().to_string()
    };
    let white = || MemoryFile::from(Picture::paint([4, 4], |_, _| [255; 4]).unwrap());
    let mesh = MemoryFile::from(Surface::ball(2));
    let texture = "frolic = 1\n[[texture]]\nname = \"a\"\nfile = \"it\"\n";
    let asset = "frolic = 1\n[[asset]]\nname = \"a\"\nfrom = { mesh = \"it\" }\n";
    let text = "frolic = 1\n[[text]]\ntext = \"a\"\nposition = [0, 0, 0]\nsize = 1.0\nfont = \"it\"\n";
    for (problem, parts) in [
        (told(texture, mesh), ["texture.0.file", "'it': is a mesh in memory", "give another PNG"]),
        (told(asset, white()), ["asset.0.from.mesh", "is a picture in memory", "give another file"]),
        (told(text, white()), ["text.0.font", "is a picture in memory", "give another font"]),
        (
            told(text, MemoryFile::from(vec![1, 2, 3])),
            ["text.0.font", "is not a TrueType or OpenType font", "give a .ttf or .otf"],
        ),
        (
            told(text, MemoryFile::Grid(BakeSpec::new(8).bake(&Surface::ball(2)).unwrap().into())),
            ["text.0.font", "is a distance grid", "font"],
        ),
    ] {
        assert!(parts.iter().all(|part| problem.contains(part)), "{problem}");
    }
    let missing = SceneSpec::parse(text, "it").unwrap();
    let problem = Scene::new(&missing).unwrap_err().to_string();
    assert!(
        problem.contains("text.0.font") && problem.contains("name a font beside the scene file"),
        "{problem}"
    );
}

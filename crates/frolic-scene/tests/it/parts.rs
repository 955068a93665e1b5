//! The parts of a scene that are no populations, and the files around them: textures that are broken, huge or odd; boards, texts, tile
//! maps; frames, video and sheets that can be read again.

use std::fs;
use std::io::Cursor;
use std::path::Path;

use frolic_core::{Counter, Frame, Meter};
use frolic_diagnostics::Show;
use frolic_draw::{Image, ImageSize};
use frolic_scene::{
    Scene, SceneSpec, SheetTiming, VideoWriter, read_png, read_png_bytes, write_animated_png, write_png,
    write_sheet,
};

/// A PNG of any kind, straight from an encoder.
fn png(
    color: png::ColorType,
    depth: png::BitDepth,
    size: (u32, u32),
    data: &[u8],
    palette: Option<&[u8]>,
) -> Vec<u8> {
    let mut bytes = Vec::new();
    let mut encoder = png::Encoder::new(&mut bytes, size.0, size.1);
    encoder.set_color(color);
    encoder.set_depth(depth);
    if let Some(palette) = palette {
        encoder.set_palette(palette.to_vec());
    }
    encoder.write_header().unwrap().write_image_data(data).unwrap();
    bytes
}

#[test]
fn every_kind_of_png_is_read() {
    use png::{BitDepth, ColorType};
    let read = |bytes: Vec<u8>| read_png_bytes(&bytes, "test.png").unwrap().pixels().to_vec();
    assert_eq!(read(png(ColorType::Rgba, BitDepth::Eight, (1, 1), &[1, 2, 3, 4], None)), [[1, 2, 3, 4]]);
    assert_eq!(read(png(ColorType::Rgb, BitDepth::Eight, (1, 1), &[1, 2, 3], None)), [[1, 2, 3, 255]]);
    assert_eq!(
        read(png(ColorType::Grayscale, BitDepth::Eight, (2, 1), &[9, 200], None)),
        [[9, 9, 9, 255], [200, 200, 200, 255]]
    );
    assert_eq!(read(png(ColorType::GrayscaleAlpha, BitDepth::Eight, (1, 1), &[9, 7], None)), [[9, 9, 9, 7]]);
    let deep = [0x12, 0x34, 0xff, 0xff, 0, 0, 0x80, 0x00];
    assert_eq!(read(png(ColorType::Rgba, BitDepth::Sixteen, (1, 1), &deep, None)), [[0x12, 0xff, 0, 0x80]]);
    let palette = [10, 20, 30, 40, 50, 60];
    assert_eq!(
        read(png(ColorType::Indexed, BitDepth::One, (2, 1), &[0b0100_0000], Some(&palette))),
        [[10, 20, 30, 255], [40, 50, 60, 255]]
    );
    assert_eq!(
        read(png(ColorType::Grayscale, BitDepth::One, (2, 1), &[0b1000_0000], None)),
        [[255; 4], [0, 0, 0, 255]]
    );
}

#[test]
fn hostile_pngs_are_refused_before_they_are_decoded() {
    let good = png(png::ColorType::Rgba, png::BitDepth::Eight, (40, 40), &[7; 6400], None);
    let told = |bytes: &[u8]| read_png_bytes(bytes, "bad.png").unwrap_err().to_string();
    // The sides are in the header, from byte 16 on; their checksum follows.
    let sized = |w: u32, h: u32| {
        let mut bytes = good.clone();
        bytes[16..20].copy_from_slice(&w.to_be_bytes());
        bytes[20..24].copy_from_slice(&h.to_be_bytes());
        let mut crc = !0u32;
        for byte in &bytes[12..29] {
            crc ^= u32::from(*byte);
            for _ in 0..8 {
                crc = if crc & 1 == 1 { crc >> 1 ^ 0xedb8_8320 } else { crc >> 1 };
            }
        }
        bytes[29..33].copy_from_slice(&(!crc).to_be_bytes());
        bytes
    };
    assert!(told(&sized(100_000, 100_000)).contains("100000 x 100000"), "{}", told(&sized(100_000, 100_000)));
    assert!(told(&sized(16_000, 16_000)).contains("million in all"));
    for zero in [sized(0, 40), sized(40, 0)] {
        assert!(told(&zero).starts_with("bad.png: is"), "{}", told(&zero));
    }
    for cut in [0, 7, 20, 40, good.len() / 2, good.len() - 13] {
        let told = told(&good[..cut]);
        assert!(told.contains("cut short") || told.contains("not a readable PNG"), "{cut}: {told}");
    }
    let mut noise = good;
    for (nth, byte) in noise.iter_mut().enumerate().skip(45) {
        *byte = byte.wrapping_mul(31).wrapping_add(nth as u8);
    }
    assert!(told(&noise).contains("not a readable PNG"));
    assert!(read_png("no/such.png").unwrap_err().to_string().contains("cannot be read"));
}

fn drawn(text: &str) -> (Image, Frame) {
    let spec: SceneSpec = text.parse().unwrap();
    let mut scene = Scene::new(&spec).unwrap();
    let mut meter = Meter::new();
    meter.begin_frame();
    (scene.draw(&mut meter).unwrap().clone(), meter.end_frame())
}

const HEAD: &str = "frolic = 1\n[draw]\nsize = [120, 80]\n[camera]\nbloom = 0.0\n";

#[test]
fn boards_texts_and_layers_go_onto_the_picture() {
    let board = "[[sprite]]\nposition = [10, 10, 0]\nsize = [60, 40]\npivot = [0, 0]\ncolour = [9.0, 0.0, 0.0]\nput = { on_screen = true, layer = 2 }\n";
    let cover = "[[sprite]]\nposition = [0, 0, 0]\nsize = [50, 50]\npivot = [0, 0]\ncolour = [0.0, 9.0, 0.0]\nput = { on_screen = true, layer = 1 }\n";
    let (image, frame) = drawn(&format!("{HEAD}{board}{cover}"));
    let at = |x: usize, y: usize| image.pixels()[y * 120 + x];
    // The higher layer is on top, though it comes first.
    assert!(at(30, 30)[0] > 200 && at(30, 30)[1] < 30, "{:?}", at(30, 30));
    assert!(at(5, 5)[1] > 200);
    // Edges on whole pixels are crisp.
    assert!(at(10, 10)[0] > 200 && at(9, 10)[0] < 30 && at(69, 49)[0] > 200 && at(70, 49)[0] < 150);
    assert_eq!((frame.count(Counter::DrawCalls), frame.count(Counter::BreaksLayer)), (2, 1));

    let text = "[[text]]\ntext = \"{time}\"\nposition = [-4, 4, 0]\nsize = 20\nalign = \"right\"\ntime_from = 3599.0\nput = { on_screen = true, anchor = [1, 0], glow = 3 }\n";
    let spec: SceneSpec = format!("{HEAD}{text}").parse().unwrap();
    let mut scene = Scene::new(&spec).unwrap();
    let mut meter = Meter::new();
    let before = scene.draw(&mut meter).unwrap().clone();
    assert!(scene.draw(&mut meter).unwrap() == &before);
    scene.run_to(1.0, &mut meter);
    assert!(scene.draw(&mut meter).unwrap() != &before, "the clock goes on");
    let mut said = String::new();
    spec.text[0].say(1.0, &[], &mut said);
    assert_eq!(said, "1:00:00");
    // It stands in the right half, up to its anchor.
    let lit = |x: usize| (0..30).any(|y| before.pixels()[y * 120 + x][0] > 180);
    assert!((0..30).all(|x| !lit(x)) && (60..116).any(lit));
}

#[test]
fn tile_maps_show_the_tile_of_each_place() {
    let folder = tempfile::tempdir().unwrap();
    let mut sheet = Image::new(ImageSize::new(8, 4).unwrap());
    sheet.paint(|x, _| if x < 4 { [255, 0, 0, 255] } else { [0, 0, 255, 255] });
    write_png(folder.path().join("sheet.png"), &sheet).unwrap();
    let mut index = Image::new(ImageSize::new(3, 1).unwrap());
    index.paint(|x, _| [[1, 1, 1, 255], [255, 255, 255, 255], [0, 0, 0, 255]][x as usize]);
    write_png(folder.path().join("index.png"), &index).unwrap();
    let file = folder.path().join("scene.toml");
    let tiles = |how: &str| {
        format!(
            "{HEAD}[[texture]]\nname = \"sheet\"\nfile = \"sheet.png\"\nframes = [2, 1]\n[[tiles]]\ntexture = \"sheet\"\n{how}\nposition = [60, 40, 0]\nsize = [90, 30]\nput = {{ on_screen = true, glow = 9 }}\n"
        )
    };
    for how in ["rows = [[1, 65535, 0]]", "index = \"index.png\""] {
        fs::write(&file, tiles(how)).unwrap();
        let mut scene = Scene::new(&SceneSpec::from_file(&file).unwrap()).unwrap();
        let image = scene.draw(&mut Meter::new()).unwrap().clone();
        let at = |x: usize| image.pixels()[40 * 120 + x];
        assert!(at(30)[2] > 200 && at(30)[0] < 30, "{how}: {:?}", at(30));
        assert!(at(60)[0] < 150 && at(60)[2] < 150, "{how}: nothing in the middle, {:?}", at(60));
        assert!(at(90)[0] > 200, "{how}: {:?}", at(90));
    }
    let refused = |how: &str| {
        fs::write(&file, tiles(how)).unwrap();
        match SceneSpec::from_file(&file) {
            Ok(spec) => Scene::new(&spec).unwrap_err().to_string(),
            Err(error) => error.to_string(),
        }
    };
    assert!(refused("rows = [[0, 7]]").contains("tile 7 of a sheet of 2"));
    assert!(refused("rows = [[0, 1], [0]]").contains("differ in length"));
    assert!(refused("rows = [[0]]\nscatter = [2, 2]").contains("exactly one"));
    assert!(refused("index = \"none.png\"").contains("none.png cannot be read"));
}

/// A texture is either a file or a generated tuft. Crossed quads with a tuft appear only from the distance in `detail.from`.
#[test]
fn tufts_are_generated_for_crossed_quads() {
    let scene = |texture: &str, from: &str| {
        format!(
            "{HEAD}[[texture]]\nname = \"tuft\"\n{texture}\n[[population]]\nname = \"tufts\"\ncount = 40\nsize = 0.2\n[population.blades]\nlength = [0.6, 1.0]\n[[population.blades.placement]]\non = {{ ground = {{ scattered = {{}} }} }}\narea = {{ centre = [0, 0], size = [3, 3] }}\n[population.look]\nshape = {{ mesh = {{ name = \"crossed-quads\", texture = \"tuft\" }} }}\nblend = \"cut-out\"\nlit = 0\ndetail = {{ from = {from} }}\n"
        )
    };
    let shown = |texture: &str, from: &str| {
        let spec: SceneSpec = scene(texture, from).parse().unwrap();
        let mut scene = Scene::new(&spec).unwrap();
        let image = scene.draw(&mut Meter::new()).unwrap();
        image.pixels().iter().filter(|pixel| pixel[1] > 128).count()
    };
    let (near, dense) = (shown("tuft = { blades = 5 }", "[0, 0]"), shown("tuft = { blades = 40 }", "[0, 0]"));
    assert!(near > 100 && dense > near * 3 / 2, "{near}, then {dense}");
    assert_eq!(shown("tuft = {}", "[900, 1000]"), 0);
    let refused =
        |texture: &str, from: &str| scene(texture, from).parse::<SceneSpec>().unwrap_err().to_string();
    assert!(refused("", "[0, 0]").contains("texture.0.file: is missing"), "{}", refused("", "[0, 0]"));
    assert!(refused("tuft = {}\nfile = \"a.png\"", "[0, 0]").contains("write one of the two"));
    assert!(refused("tuft = { blades = 0 }", "[0, 0]").contains("texture.0.tuft.blades"));
    assert!(refused("tuft = {}", "[9, 3]").contains("write [3, 9]"));
}

#[test]
fn unknown_names_are_refused() {
    let population = |look: &str| {
        format!(
            "{HEAD}[[population]]\nname = \"a\"\ncount = 1\nfixed = {{ at = [{{ position = [0, 0, 0] }}] }}\n[population.look]\n{look}\n"
        )
    };
    let refused = |text: String| {
        let spec: SceneSpec = text.parse().unwrap();
        Scene::new(&spec).unwrap_err().to_string()
    };
    let told = refused(population("shape = { mesh = { name = \"teapot\" } }"));
    assert!(told.contains("population.0.look.shape.mesh.name") && told.contains("pennant"), "{told}");
    let told = refused(population("shape = { billboard = { texture = \"puff\" } }"));
    assert!(told.contains("no texture 'puff'; add a texture"), "{told}");
    let told = refused(population("blend = \"opaque\""));
    assert!(told.contains("look.blend") && told.contains("soft edges"), "{told}");
    let bad = |text: String| text.parse::<SceneSpec>().unwrap_err().to_string();
    assert!(bad(population("layer = 1000000")).contains("write a number from -1000 to 1000"));
    assert!(bad(population("detail = { reach = 0 }")).contains("look.detail.reach"));
    assert!(bad(population("shape = \"disk\"")).contains("did you mean 'disc'"));
    let crowd = format!(
        "{HEAD}[[population]]\nname = \"a\"\ncount = 3\nfixed = {{ at = [{{ position = [0, 0, 0] }}] }}\n"
    );
    assert!(bad(crowd).contains("3 elements for 1 places"));
}

/// The classic demonstration: draw calls fall a hundredfold and more, the picture stays the same to the last bit.
#[test]
fn pennants_are_batched() {
    let spec = SceneSpec::find("pennants").unwrap().set("draw.size", "[160, 100]").unwrap();
    let spec = spec.set("sun.shadow_map", "512").unwrap();
    let picture = |technique: &str, order: &str| {
        let spec = spec.set("draw.technique", technique).unwrap().set("draw.depth_order", order).unwrap();
        let mut scene = Scene::new(&spec).unwrap();
        let mut meter = Meter::new();
        scene.run_to(2.0, &mut meter);
        meter.begin_frame();
        let image = scene.draw(&mut meter).unwrap().clone();
        (image, meter.end_frame())
    };
    let (instanced, few) = picture("instanced", "population");
    assert_eq!(few.count(Counter::DrawCalls), 16);
    assert!(few.count(Counter::Instances) > 3700);
    for technique in ["each", "batched"] {
        let (image, frame) = picture(technique, "population");
        assert!(image == instanced, "{technique}");
        let calls = if technique == "each" { frame.count(Counter::Instances) } else { 16 };
        assert_eq!(frame.count(Counter::DrawCalls), calls, "{technique}");
    }
    assert!(few.count(Counter::Instances) > 100 * few.count(Counter::DrawCalls));
}

fn frames(count: usize) -> Vec<Image> {
    let size = ImageSize::new(12, 10).unwrap();
    (0..count)
        .map(|n| {
            let mut image = Image::new(size);
            image.paint(|x, y| {
                [(n * 40) as u8, (x * 20) as u8, (y * 20) as u8, if n % 2 == 0 { 255 } else { 90 }]
            });
            image
        })
        .collect()
}

#[test]
fn animated_pngs_hold_every_frame() {
    let folder = tempfile::tempdir().unwrap();
    let (path, frames) = (folder.path().join("move.png"), frames(5));
    write_animated_png(&path, &frames, 24.0).unwrap();
    let mut reader = png::Decoder::new(Cursor::new(fs::read(&path).unwrap())).read_info().unwrap();
    assert_eq!(reader.info().animation_control().unwrap().num_frames, 5);
    let mut bytes = vec![0; 12 * 10 * 4];
    for frame in &frames {
        reader.next_frame(&mut bytes).unwrap();
        assert_eq!(bytes, frame.bytes());
        let control = reader.info().frame_control().unwrap();
        assert_eq!((control.delay_num, control.delay_den), (1, 24));
    }
    assert!(write_animated_png(folder.path().join("none.png"), &[], 24.0).is_err());
    assert!(!folder.path().join("none.png").exists());
}

#[test]
fn sheets_hold_frames_and_their_timing() {
    let folder = tempfile::tempdir().unwrap();
    let (path, frames) = (folder.path().join("puff.png"), frames(5));
    write_sheet(&path, &frames, [3, 2], 12.5, 0.4).unwrap();
    let sheet = read_png(&path).unwrap();
    assert_eq!(sheet.size(), [36, 20]);
    for (nth, frame) in frames.iter().enumerate() {
        let (x, y) = (nth % 3 * 12, nth / 3 * 10);
        assert_eq!(sheet.pixels()[(y + 4) * 36 + x + 7], frame.pixels()[4 * 12 + 7], "frame {nth}");
    }
    assert_eq!(sheet.pixels()[15 * 36 + 30], [0; 4], "no sixth frame");
    let text = fs::read_to_string(folder.path().join("puff.toml")).unwrap();
    let timing: SheetTiming = toml::from_str(&text).unwrap();
    assert_eq!((timing.frames, timing.frame_size, timing.rate, timing.from), ([3, 2], [12, 10], 12.5, 0.4));
    assert!(write_sheet(&path, &frames, [64, 2000], 12.5, 0.0).is_err());
}

#[test]
fn raw_video_can_be_read_again() {
    let mut bytes = Vec::new();
    let frames = frames(3);
    let mut video = VideoWriter::new(&mut bytes, frames[0].size(), 25.0).unwrap();
    frames.iter().for_each(|frame| video.write(frame).unwrap());
    drop(video);
    assert!(bytes.starts_with(b"YUV4MPEG2 W12 H10 F25:1"), "{}", String::from_utf8_lossy(&bytes[..60]));
    let mut decoder = y4m::decode(Cursor::new(&bytes)).unwrap();
    for frame in &frames {
        let read = decoder.read_frame().unwrap();
        let [y, b, r] =
            [read.get_y_plane(), read.get_u_plane(), read.get_v_plane()].map(|plane| f32::from(plane[17]));
        // Back to RGB, within a step of rounding on each axis.
        let luma = (y - 16.0) / 219.0;
        let red = luma + (r - 128.0) / 224.0 * 1.5748;
        let blue = luma + (b - 128.0) / 224.0 * 1.8556;
        let want = frame.pixels()[17];
        assert!((red * 255.0 - f32::from(want[0])).abs() < 3.0, "{red} {want:?}");
        assert!((blue * 255.0 - f32::from(want[2])).abs() < 3.0, "{blue} {want:?}");
    }
    assert!(decoder.read_frame().is_err());
}

/// Small pictures that ship with the tests, exact to the last bit. With `FROLIC_BLESS=1` they are written anew.
#[test]
fn reference_pictures_match_exactly() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/pictures");
    for (name, scene, settings, show) in [
        ("beacon", "beacon", &[("embers.count", "900")][..], Show::Picture),
        ("pennants", "pennants", &[("sun.shadow_map", "512")][..], Show::Picture),
        ("pennants-shadow", "pennants", &[("sun.shadow_map", "512")][..], Show::Shadow),
        ("shapes", "tests/pictures/shapes.toml", &[][..], Show::Picture),
        ("shapes-batches", "tests/pictures/shapes.toml", &[("draw.depth_order", "all")][..], Show::Batches),
    ] {
        let mut spec = SceneSpec::find(scene).unwrap().set("draw.size", "[128, 80]").unwrap();
        for (key, value) in settings {
            spec = spec.set(key, value).unwrap();
        }
        let mut scene = Scene::new(&spec).unwrap();
        let mut meter = Meter::new();
        scene.run_to(1.5, &mut meter);
        let image = scene.show(show, &mut meter).unwrap();
        let path = folder.join(format!("{name}.png"));
        if std::env::var_os("FROLIC_BLESS").is_some() {
            write_png(&path, image).unwrap();
        }
        let want = read_png(&path).unwrap();
        let off: Vec<usize> =
            (0..want.pixels().len()).filter(|&at| want.pixels()[at] != image.pixels()[at]).collect();
        if !off.is_empty() {
            let differs = std::env::temp_dir().join(format!("frolic-{name}-differs.png"));
            write_png(&differs, image).unwrap();
            panic!(
                "{name}: {} pixels differ, the first at {:?}; see {}",
                off.len(),
                (off[0] % 128, off[0] / 128),
                differs.display()
            );
        }
    }
}

//! Scene text: what is read back is what was written, what is wrong is told with line and key, and nothing panics.

use std::fs;

use frolic_core::{EmitterSpec, FieldSpec, ParticleSpec, Ramp, ShapeSpec, Storage, WorldSpec};
use frolic_draw::{
    Blend, CameraSpec, Colour, GroundSpec, ImageSize, LightSpec, LookSpec, Technique, WaterSpec,
};
use frolic_scene::{Folder, SHIPPED, Scene, SceneError, SceneSpec};
use proptest::prelude::*;

fn text_of(error: &SceneError) -> String {
    error.to_string()
}

/// The error of a scene whose text is the head, then `lines`.
fn wrong(lines: &str) -> String {
    let error = SceneSpec::parse(&format!("frolic = 1\n{lines}"), "my.toml").unwrap_err();
    let text = text_of(&error);
    assert!(text.lines().count() <= 2, "{text}");
    text
}

#[test]
fn shipped_scenes_are_good_and_read_back_the_same() {
    for scene in SHIPPED {
        let spec = SceneSpec::find(scene.name).unwrap();
        // Text does not say in which folder it stood.
        let mut again = SceneSpec::parse(&spec.to_toml(), "again").unwrap();
        again.folder = Folder::Shipped(scene.name);
        assert!(spec == again, "{}", scene.name);
        Scene::new(&spec).unwrap();
        let file = fs::read_to_string(format!("../../scenes/{}.toml", scene.name)).unwrap();
        assert_eq!(file, scene.text);
    }
}

/// Every key that a shipped scene is written out with is in the document.
#[test]
fn every_key_is_in_the_document() {
    let document = fs::read_to_string("../../docs/scene-format.md").unwrap();
    let words: std::collections::HashSet<&str> =
        document.split(|c: char| !(c.is_alphanumeric() || c == '_')).collect();
    for scene in SHIPPED {
        let text = SceneSpec::find(scene.name).unwrap().to_toml();
        let keys = text.lines().filter_map(|line| line.split_once(" = ")).map(|(key, _)| key.trim());
        let mut count = 0;
        for key in keys.filter(|key| key.chars().all(|c| c.is_alphanumeric() || c == '_')) {
            assert!(words.contains(key), "'{key}' of {} is not in docs/scene-format.md", scene.name);
            count += 1;
        }
        assert!(count > 50, "{count}");
    }
}

#[test]
fn misspelt_keys_are_named_with_line_and_nearest() {
    let told = wrong("[camera]\nexposur = 2.0\n");
    assert!(told.starts_with("my.toml:3: unknown key 'exposur'; did you mean 'exposure'?"), "{told}");
    let told = wrong("[[population]]\nname = \"a\"\ncount = 5\n[[population.emitter]]\nrte = 5\n");
    assert!(told.starts_with("my.toml:6: unknown key 'rte'; did you mean 'rate'?"), "{told}");
    let told = wrong("[draw]\ntechnique = \"instansed\"\n");
    assert!(told.starts_with("my.toml:3: unknown value 'instansed'; did you mean 'instanced'?"), "{told}");
    let told = wrong("zzz = 1\n");
    assert!(told.contains("none is like it") && told.contains("keys here: frolic, title"), "{told}");
}

#[test]
fn values_out_of_range_are_named_with_line_key_and_range() {
    let told = wrong("[[population]]\nname = \"a\"\ncount = 5\nlife = [2.0, nan]\n");
    assert!(
        told.starts_with("my.toml:5: population.0.life: NaN is out of range; write a number from 0.001"),
        "{told}"
    );
    let told = wrong("[[population]]\nname = \"a\"\ncount = 5\n[population.look]\nglow = -1\n");
    assert!(told.starts_with("my.toml:6: population.0.look.glow: -1 is out of range"), "{told}");
    let told = wrong("[world]\nwind = [inf, 0, 0]\n");
    assert!(told.starts_with("my.toml:3: world.wind: inf is out of range"), "{told}");
    let told = wrong("[[population]]\nname = \"a\"\ncount = -5\n");
    assert!(told.starts_with("my.toml:4: invalid value: integer '-5', expected u32"), "{told}");
    let told = wrong("[draw]\nsize = [0, 5]\n");
    assert!(told.starts_with("my.toml:3: ") && told.contains("0x5 is not a picture size"), "{told}");
    let told = wrong("[camera]\nposition = [1, 2, 3]\ntarget = [1, 2, 3]\n");
    assert!(told.starts_with("my.toml:4: camera.target"), "{told}");
    let told = wrong("[profile]\npopulation = \"embers\"\n");
    assert!(told.starts_with("my.toml:3: profile.population: there is no population 'embers'"), "{told}");
}

#[test]
fn wrong_kinds_and_names_are_refused() {
    assert!(
        wrong("[[population]]\nname = \"a\"\ncount = 5\nlife = \"long\"\n")
            .contains("a number, or [lowest, highest]")
    );
    assert!(wrong("[[light]]\ncolour = \"#12345\"\n").contains("a colour: \"#rrggbb\""));
    assert!(wrong("[[population]]\ncount = 5\n").contains("missing key 'name'"));
    assert!(wrong("[[population]]\nname = \"draw\"\ncount = 5\n").contains("'draw' is a key of the scene"));
    let twice = "[[population]]\nname = \"a\"\ncount = 1\n[[population]]\nname = \"a\"\ncount = 1\n";
    assert!(wrong(twice).starts_with("my.toml:6: population.1.name: 'a' is used twice"));
    assert!(wrong("title = \"unfinished\n").starts_with("my.toml:2: "));
    let future = SceneSpec::parse("frolic = 2\n", "f.toml").unwrap_err().to_string();
    assert!(future.starts_with("f.toml:1: frolic: 2 is an unknown version"), "{future}");
    assert!(
        SceneSpec::parse("title = \"\"\n", "f.toml")
            .unwrap_err()
            .to_string()
            .contains("missing key 'frolic'")
    );
    assert!(SceneSpec::parse(" \n", "f.toml").unwrap_err().to_string().contains("is empty"));
}

#[test]
fn files_without_text_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("x.toml");
    let told = |bytes: &[u8]| {
        fs::write(&path, bytes).unwrap();
        SceneSpec::from_file(&path).unwrap_err().to_string()
    };
    assert!(told(b"frolic = 1\ntitle = \"\xff\"\n").contains("x.toml:2: is not UTF-8"));
    assert!(told(&vec![b'#'; 3 << 20]).contains("is over 1 MiB"));
    assert!(told(b"").contains("is empty"));
    let missing = SceneSpec::find(folder.path().join("none.toml").to_str().unwrap()).unwrap_err();
    assert!(matches!(missing, SceneError::Read { .. }), "{missing}");
    assert!(matches!(SceneSpec::from_file(folder.path()), Err(SceneError::Read { .. })));
    let unknown = SceneSpec::find("becon").unwrap_err().to_string();
    assert!(unknown.contains("did you mean 'beacon'?"), "{unknown}");
}

#[test]
fn settings_reach_every_kind_of_key() {
    let scene = SceneSpec::find("beacon").unwrap();
    let set = |key: &str, value: &str| scene.set(key, value).unwrap();
    assert_eq!(set("storage", "objects").storage, Storage::Objects);
    assert_eq!(set("draw.technique", "each").draw.technique, Technique::Each);
    assert_eq!(set("draw.at", "3").draw.at, 3.0);
    assert_eq!(set("light.0.power", "7").light[0].power, 7.0);
    let pulled = set("world.field", "[{ kind = { attractor = { strength = 5 } } }]");
    assert_eq!(pulled.world.field, [FieldSpec::attractor([0.0; 3], 5.0, 1.0)]);
    let embers = |scene: SceneSpec| scene.population.into_iter().find(|p| p.name == "embers").unwrap();
    assert_eq!(embers(set("embers.count", "77")).count, 77);
    assert_eq!(embers(set("embers.emitter.1.rate", "2.5")).emitter[1].rate, 2.5);
    assert_eq!(embers(set("embers.life", "[1, 2]")).life.max, 2.0);
    let no = |key: &str, value: &str| scene.set(key, value).unwrap_err().to_string();
    assert!(no("embers.emitter.9.rate", "1").contains("no item '9'; there are 2"));
    assert!(no("embers.cont", "1").contains("did you mean 'count'?"));
    assert!(no("ember.count", "1").contains("embers"), "{}", no("ember.count", "1"));
    assert!(no("seed.x", "1").contains("'seed' has no keys"));
    assert!(no("embers.count", "many").starts_with("embers.count=many: "));
    assert!(no("embers.motion.drag", "nan").contains("out of range"));
    assert!(no("", "1").contains("unknown key"));
}

fn specs() -> impl Strategy<Value = SceneSpec> {
    let shape = prop_oneof![
        Just(ShapeSpec::Point),
        (0f32..9.0).prop_map(|radius| ShapeSpec::Disc { radius, normal: [0.0, 0.5, 1.0] }),
        (0f32..9.0).prop_map(|radius| ShapeSpec::Sphere { radius }),
        (0f32..9.0).prop_map(|radius| ShapeSpec::SphereSurface { radius }),
        prop::array::uniform3(0f32..9.0).prop_map(|size| ShapeSpec::Box { size }),
    ];
    let population =
        (0u32..5000, 0.01f32..5.0, shape, 0f32..500.0, any::<bool>(), prop::collection::vec(0f32..1.0, 1..5));
    let population = population.prop_map(|(count, life, shape, rate, burst, opacity)| {
        let mut emitter = if burst { EmitterSpec::burst(count, life) } else { EmitterSpec::rate(rate) };
        emitter = emitter.shape(shape).cone([0.1, -1.0, 0.3], rate / 3.0).speed(0.0, life);
        let particles = ParticleSpec::new(count).life(life, life * 2.0).motion(life, -life).emitter(emitter);
        let mut look = LookSpec::covering([(0.0, "#102030"), (0.7, "#ffffff")]).unwrap();
        let last = opacity.len() as f32;
        look.opacity_over_age = Ramp::new(opacity.iter().enumerate().map(|(i, &o)| (i as f32 / last, o)));
        look.blend = if burst { Blend::Additive } else { Blend::Alpha };
        (particles, look)
    });
    let rest = (any::<u32>(), 0u32..9, any::<bool>(), any::<bool>(), 1u32..4000, "[ -~]{0,40}");
    (prop::collection::vec(population, 0..4), rest).prop_map(
        |(populations, (seed, threads, objects, island, side, title))| {
            let mut spec = SceneSpec::new(&title);
            (spec.seed, spec.threads) = (seed, threads);
            spec.draw.size = ImageSize::new(side, side + 7).unwrap();
            spec.camera = CameraSpec::new([side as f32, 1.0, 2.0], [0.0, 0.5, 0.25], 33.0);
            if objects {
                spec.storage = Storage::Objects;
                spec.draw.technique = Technique::Batched;
                spec.world =
                    WorldSpec::default().gusts(2.0, 0.5).field(FieldSpec::attractor([0.0; 3], -3.0, 0.5));
            }
            if island {
                spec.ground = Some(GroundSpec::default());
                spec.water = Some(WaterSpec::default());
                spec.light.push(LightSpec::new([1.0, 2.0, 3.0], Colour::new(0.1, 0.2, 0.3), 4.0));
            }
            for (nth, (particles, look)) in populations.into_iter().enumerate() {
                spec = spec.with(&format!("p{nth}"), particles, look);
            }
            spec
        },
    )
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(100))]

    #[test]
    fn scenes_read_back_as_they_were(spec in specs()) {
        let text = spec.to_toml();
        let again = SceneSpec::parse(&text, "again").map_err(|error| TestCaseError::fail(format!("{error}\n{text}")))?;
        prop_assert_eq!(spec, again);
    }

    /// The shipped text with a piece cut out, doubled, or replaced by noise: an error of one or two lines or a good scene.
    #[test]
    fn damaged_scenes_never_panic(
        which in 0..SHIPPED.len(), share in 0f64..1.0, length in 0usize..60, noise in "\\PC{0,12}", double in any::<bool>()
    ) {
        let text = SHIPPED[which].text;
        let at = (share * text.len() as f64) as usize;
        let clip = |at: usize| (0..=at.min(text.len())).rev().find(|&i| text.is_char_boundary(i)).unwrap_or(0);
        let (from, to) = (clip(at), clip(at + length));
        let piece = if double { &text[from..to] } else { "" };
        let damaged = format!("{}{piece}{noise}{}", &text[..to.min(if double { to } else { from })], &text[to..]);
        if let Err(error) = SceneSpec::parse(&damaged, "damaged") {
            prop_assert!(error.to_string().lines().count() <= 2, "{}", error);
        }
    }

    #[test]
    fn noise_never_panics(text in "\\PC{0,200}", key in "[a-z.0-9]{0,20}", value in "\\PC{0,20}") {
        prop_assert!(SceneSpec::parse(&text, "noise").is_err());
        let _ = SceneSpec::find("beacon").unwrap().set(&key, &value);
    }
}

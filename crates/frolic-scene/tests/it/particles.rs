//! Scenes whose particles meet things, start others and are picked up, as files say it.

use frolic_core::{Counter, Meter};
use frolic_diagnostics::Show;
use frolic_draw::Image;
use frolic_scene::{Scene, SceneSpec, TrailLookSpec};

fn shipped(name: &str, settings: &[(&str, &str)]) -> SceneSpec {
    let spec = SceneSpec::find(name).unwrap().set("draw.size", "[160, 100]").unwrap();
    settings.iter().fold(spec, |spec, (key, value)| spec.set(key, value).unwrap())
}

fn picture(scene: &mut Scene) -> Image {
    scene.draw(&mut Meter::new()).unwrap().clone()
}

#[test]
fn the_blowhole_is_dug_shown_and_counted() {
    let mut scene = Scene::new(&shipped("blowhole", &[("spray.count", "4000")])).unwrap();
    let mut meter = Meter::new();
    meter.begin_frame();
    scene.run_to(1.9, &mut meter);
    let (edits, before) = (scene.world().mask(0).unwrap().edits(), picture(&mut scene));
    assert_eq!(edits, 0, "the pick has not begun");
    scene.run_to(5.0, &mut meter);
    let frame = meter.end_frame();
    assert!(scene.world().mask(0).unwrap().edits() > 50);
    // Every pick-up is in one bucket's count, and in the words on it.
    assert_eq!(scene.caught().iter().sum::<u64>(), frame.count(Counter::Picked));
    assert!(scene.caught()[1] > 0, "{:?}", scene.caught());
    // The stone's picture follows: a scene that is dug shows what a mask dug alike at the start would show.
    let empty = [("spray.count", "0"), ("mist.count", "0")];
    let mut dug = Scene::new(&shipped("blowhole", &empty)).unwrap();
    let fresh = picture(&mut dug);
    dug.run_to(5.0, &mut meter);
    let shown = picture(&mut dug);
    assert!(shown != fresh && before != fresh);
    dug.resize(dug.spec().draw.size).unwrap();
    let mut anew = Scene::new(&shipped("blowhole", &empty)).unwrap();
    anew.run_to(5.0, &mut meter);
    // Painting all of it at once, on another size and back, gives the same as following edit by edit.
    anew.resize(frolic_draw::ImageSize::new(200, 100).unwrap()).unwrap();
    anew.resize(frolic_draw::ImageSize::new(160, 100).unwrap()).unwrap();
    assert!(picture(&mut anew) == shown);
}

#[test]
fn sound_strikes_and_the_world_goes_along() {
    let mut scene = Scene::new(&shipped("foghorn", &[])).unwrap();
    let mut meter = Meter::new();
    meter.begin_frame();
    scene.run_to(3.0, &mut meter);
    let frame = meter.end_frame();
    assert!(frame.count(Counter::Hits) > 100 && frame.count(Counter::Events) > 100);
    assert!(scene.particles("glints").unwrap().len() > 50);
    let sound = scene.particles("sound").unwrap().columns();
    let speed = |i: usize| sound.vx()[i].hypot(sound.vz()[i]);
    assert!((0..sound.len()).all(|i| (speed(i) - 17.0).abs() < 0.05), "it bounces without loss");
    // The camera travels; other stacks are there, and the same ones when it is back.
    let there = "{ points = [[0, 0, 0], [0, 0, -2000], [0, 0, 0]], seconds = 4.0 }";
    let mut scene = Scene::new(&shipped("foghorn", &[("travel", there), ("sound.count", "0")])).unwrap();
    let posts = |scene: &Scene| scene.world().posts().map(|post| post.map(f32::to_bits)).collect::<Vec<_>>();
    let mut stayed = Scene::new(&shipped("foghorn", &[("sound.count", "0")])).unwrap();
    stayed.run_to(0.1, &mut meter);
    let home = posts(&stayed);
    assert!(home.len() > 50);
    let first = picture(&mut scene);
    scene.run_to(2.0, &mut meter);
    let away = posts(&scene);
    assert!(away.iter().all(|post| !home.contains(post)) && away.len() < 250, "{}", away.len());
    assert!(picture(&mut scene) != first);
    scene.run_to(4.5, &mut meter);
    let back = posts(&scene);
    assert!(home.iter().all(|post| back.contains(post)));
}

#[test]
fn heather_sways_and_follows_the_season() {
    let spec = |season: &str| {
        shipped("heather", &[("season", season), ("leaves.count", "3000"), ("bells.count", "1500")])
    };
    let at = |season: &str, seconds: f64| {
        let mut scene = Scene::new(&spec(season)).unwrap();
        scene.run_to(seconds, &mut Meter::new());
        picture(&mut scene)
    };
    let bloom = at("0.6", 1.0);
    assert!(bloom == at("0.6", 1.0));
    assert!(bloom != at("0.6", 1.5), "it moves");
    // Pink where there are bells, none of it in spring.
    let pink = |image: &Image| {
        image
            .pixels()
            .iter()
            .filter(|p| p[0] > p[1].saturating_add(40) && p[2] > p[1].saturating_add(10))
            .count()
    };
    assert!(pink(&bloom) > 150 && pink(&at("0.0", 1.0)) < 60, "{} {}", pink(&bloom), pink(&at("0.0", 1.0)));
}

#[test]
fn a_log_cracks_again_and_draws_lines() {
    let spec = shipped("beacon", &[]);
    let mut scene = Scene::new(&spec).unwrap();
    let mut meter = Meter::new();
    scene.run_to(1.35, &mut meter);
    assert_eq!(scene.particles("crack").unwrap().len(), 430);
    let with = picture(&mut scene);
    let mut plain = spec.clone();
    plain.population.iter_mut().for_each(|population| population.trail = None);
    let mut scene = Scene::new(&plain).unwrap();
    scene.run_to(1.35, &mut meter);
    assert!(picture(&mut scene) != with);
    // A trail has to be a ribbon.
    let crack = plain.population.iter_mut().find(|population| population.name == "crack").unwrap();
    crack.trail = Some(TrailLookSpec::new(4, 0.1, crack.look.clone()));
    let error = plain.check().unwrap_err().to_string();
    assert!(error.contains("trail.look.shape: is not a ribbon"), "{error}");
}

#[test]
fn wrong_scenes_are_refused_with_line_and_key() {
    let told =
        |text: &str| SceneSpec::parse(&format!("frolic = 1\n{text}"), "my.toml").unwrap_err().to_string();
    let ring = "[[population]]\nname = \"a\"\ncount = 9\n[[population.event]]\non = \"death\"\nstart = \"a\"\ncount = 3\n";
    assert!(
        told(ring).starts_with("my.toml:5: population.0.event: each round of this ring"),
        "{}",
        told(ring)
    );
    let lost = ring.replace("start = \"a\"", "start = \"sparks\"");
    assert!(
        told(&lost).starts_with(
            "my.toml:7: population.0.event.0.start: there is no population 'sparks'; write one of: a"
        ),
        "{}",
        told(&lost)
    );
    let ball =
        "[[world.obstacle]]\nname = \"ball\"\nshape = { sphere = { position = [0, 0, 0], radius = 1 } }\n";
    let stone = "[[relief]]\nobstacle = \"ball\"\n";
    let problem = told(&format!("{ball}{stone}"));
    assert!(problem.starts_with("my.toml:6: relief.0.obstacle: obstacle 'ball' is not a mask"), "{problem}");
    let brush = "[[world.brush]]\nobstacle = \"rock\"\nradius = 1\n";
    assert!(told(brush).contains("world.brush.0.obstacle: no obstacle is named 'rock'"), "{}", told(brush));
    let walker =
        "[[population]]\nname = \"a\"\ncount = 1\n[population.fixed]\nwalk = { pusher = \"cart\" }\n";
    assert!(told(walker).contains("fixed.walk.pusher: no pusher is named 'cart'"), "{}", told(walker));
    let field = "[[world.field]]\nkind = { vortx = {} }\n";
    assert!(told(field).contains("did you mean 'vortex'?"), "{}", told(field));
    let travel = "[travel]\npoints = [[0, 0, 0]]\nseconds = 1\n";
    assert!(told(travel).contains("travel.points: 1 points"), "{}", told(travel));
    assert!(told("season = 2.0\n").contains("season: 2 is out of range"));
}

/// Diagnostics know trails and stones too.
#[test]
fn stats_of_a_frame_can_be_shown() {
    for name in ["blowhole", "beacon"] {
        let mut scene = Scene::new(&shipped(name, &[])).unwrap();
        scene.run_to(1.4, &mut Meter::new());
        for show in [Show::Overdraw, Show::Batches, Show::Depth] {
            scene.show(show, &mut Meter::new()).unwrap();
        }
    }
}

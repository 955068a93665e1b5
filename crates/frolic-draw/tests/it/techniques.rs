//! Every way to the picture gives the same picture, to the last bit.

use crate::common::{cloud, draw, look, renderer, view};
use frolic_core::simd::{Level, detect, levels};
use frolic_core::{Counter, Threads};
use frolic_draw::{BackdropSpec, Blend, GroundSpec, Image, Renderer, Technique, WaterSpec};
use proptest::prelude::*;

/// Ground and water, so that soft edges are at work.
fn island() -> BackdropSpec {
    let mut backdrop = BackdropSpec::default();
    let mut ground = GroundSpec::default();
    ground.radius = 8.0;
    backdrop.ground = Some(ground);
    backdrop.water = Some(WaterSpec::default());
    backdrop
}

#[test]
fn techniques_differ_in_draw_calls_alone() {
    let (smoke, sparks) =
        (cloud(700, [0.05, 0.9], [3.0, 3.0, 3.0], 1), cloud(900, [0.002, 0.04], [4.0, 2.0, 3.0], 2));
    let (alpha, additive) = (look(Blend::Alpha), look(Blend::Additive));
    let populations = [(&smoke, &alpha), (&sparks, &additive)];
    let (view, backdrop) = (view(333, 190), island());
    let alive = (smoke.len() + sparks.len()) as u64;
    let drawn = |technique| draw(&populations, technique, &view, &backdrop, &mut renderer());
    let (instanced, frame) = drawn(Technique::Instanced);
    for (technique, calls) in [(Technique::Each, alive), (Technique::Batched, 2), (Technique::Instanced, 2)] {
        let (image, other) = drawn(technique);
        assert!(image == instanced, "{technique:?}");
        assert_eq!(other.count(Counter::DrawCalls), calls, "{technique:?}");
        for same in [Counter::Instances, Counter::Culled, Counter::PixelsTouched, Counter::BinRecords] {
            assert_eq!(other.count(same), frame.count(same), "{technique:?} {}", same.name());
        }
    }
}

/// With a draw call an element, making and walking the calls is most of a frame: it belongs to stages too. Of several frames the best counts, as
/// other work may interrupt one.
#[test]
fn one_draw_call_an_element_times_all_stages() {
    let (cloud, look) = (cloud(60_000, [0.001, 0.002], [3.0; 3], 1), look(Blend::Alpha));
    let (view, backdrop, mut renderer) = (view(32, 20), island(), renderer());
    let share = |_| {
        let frame = draw(&[(&cloud, &look)], Technique::Each, &view, &backdrop, &mut renderer).1;
        frame.other().as_secs_f64() / frame.total().as_secs_f64()
    };
    let least = (0..8).map(share).fold(f64::INFINITY, f64::min);
    assert!(least < 0.02, "{:.1} % of a frame is in no stage", least * 100.0);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(16))]

    #[test]
    fn nothing_about_the_machine_shows(
        seed in any::<u32>(), count in 1u32..3000, width_log2 in 3u32..7, height_log2 in 3u32..8, round in 1usize..4, additive in any::<bool>(),
    ) {
        let particles = cloud(count, [0.003, 0.5], [4.0, 3.0, 3.0], seed);
        let look = look(if additive { Blend::Additive } else { Blend::Alpha });
        let populations = [(&particles, &look)];
        let (view, backdrop) = (view(150, 90), island());
        let picture = |renderer: &mut Renderer, threads: u32| -> Image {
            Threads::new(threads).run(|| draw(&populations, Technique::Instanced, &view, &backdrop, renderer).0)
        };
        let plain = picture(&mut Renderer::tuned([6, 5], 128, Level::baseline()), 1);
        for level in levels() {
            for threads in [1, 2, 7] {
                let other = picture(&mut Renderer::tuned([width_log2, height_log2], round, level), threads);
                prop_assert!(other == plain, "{:?}, {} threads, tiles of 2^{} by 2^{}", level, threads, width_log2, height_log2);
            }
        }
    }
}

/// More than one round of chunks: what is kept between rounds is the picture.
#[test]
fn rounds_do_not_show() {
    let particles = cloud(40_000, [0.004, 0.02], [4.0, 3.0, 3.0], 5);
    let look = look(Blend::Alpha);
    let (view, backdrop) = (view(200, 120), island());
    let picture = |round| {
        let mut renderer = Renderer::tuned([6, 5], round, detect());
        draw(&[(&particles, &look)], Technique::Instanced, &view, &backdrop, &mut renderer).0
    };
    assert!(picture(1) == picture(128));
}

#[test]
fn the_backdrop_is_kept_while_nothing_about_it_changes() {
    let particles = cloud(10, [0.01, 0.02], [1.0; 3], 5);
    let look = look(Blend::Additive);
    let mut renderer = renderer();
    let mut draw = |view, backdrop: &BackdropSpec| {
        let (image, frame) =
            draw(&[(&particles, &look)], Technique::Instanced, &view, backdrop, &mut renderer);
        (image, frame.count(Counter::BackdropHits), frame.count(Counter::BackdropMisses))
    };
    let (first, ..) = draw(view(100, 60), &island());
    assert!(draw(view(100, 60), &island()) == (first.clone(), 1, 0));
    let (other, hits, misses) = draw(view(90, 60), &island());
    assert_eq!((other.size().width(), hits, misses), (90, 0, 1));
    let mut dawn = island();
    dawn.sky.zenith = frolic_draw::Colour::new(0.4, 0.5, 0.6);
    assert_eq!(draw(view(90, 60), &dawn).2, 1);
    assert!(draw(view(100, 60), &island()) == (first, 0, 1));
}

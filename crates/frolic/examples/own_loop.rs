//! A loop and a renderer of one's own: Frolic steps the columns, the program reads them and draws with what it has, here
//! characters. The clock turns uneven frames into even steps, the meter counts.
//!
//! `cargo run --release -p frolic --example own_loop` prints a fountain and writes no file.

use frolic::bodies::BodyColumns;
use frolic::prelude::*;

const ACROSS: usize = 72;
const DOWN: usize = 22;

fn main() -> Result<(), SpecError> {
    let spec = ParticleSpec::new(3_000)
        .life(2.0, 2.6)
        .motion(0.15, 1.0)
        .emitter(EmitterSpec::rate(1_000.0).cone([0.15, 1.0, 0.0], 14.0).speed(8.0, 10.0));
    let world = WorldSpec::default().wind([2.0, 0.0, 0.0]).build()?;
    let mut drops = Particles::new(&spec, 5)?;
    let (mut clock, mut meter) = (Clock::new(ClockSpec::default()), Meter::new());

    // Uneven frames, as a window would give them; the third is so slow that steps are dropped.
    for elapsed in [0.016, 0.021, 0.350, 0.009].into_iter().cycle().take(200) {
        meter.begin_frame();
        let tick = clock.advance(elapsed);
        drops.step(&world, 1.0 / 60.0, tick.steps, &mut meter);
        meter.add(Counter::Steps, u64::from(tick.steps));
        meter.add(Counter::StepsDropped, u64::from(tick.dropped));
        let started = meter.start(Stage::Raster);
        let picture = draw(drops.columns());
        meter.stop(started);
        if meter.end_frame().count(Counter::StepsDropped) > 0 && drops.time() > 3.0 {
            println!("{picture}");
            break;
        }
    }
    let frame = meter.last();
    println!(
        "{} alive, {} steps taken and {} dropped in this frame, {:?} to draw",
        frame.count(Counter::Alive),
        frame.count(Counter::Steps),
        frame.count(Counter::StepsDropped),
        frame.stage(Stage::Raster),
    );
    Ok(())
}

/// Counts drops a character cell, straight from the columns.
fn draw(columns: &BodyColumns) -> String {
    let mut cells = [[0usize; ACROSS]; DOWN];
    for (x, y) in columns.px().iter().zip(columns.py()) {
        let (i, j) = ((x + 4.0) * 5.0, DOWN as f32 - 1.0 - y * 4.5);
        if (0.0..ACROSS as f32).contains(&i) && (0.0..DOWN as f32).contains(&j) {
            cells[j as usize][i as usize] += 1;
        }
    }
    let shade = |&count: &usize| [' ', '.', ':', 'o', 'O', '@'][count.min(5)];
    cells.iter().map(|row| row.iter().map(shade).collect::<String>().trim_end().to_owned() + "\n").collect()
}

//! Spans for whoever listens: one a frame, one a stage within it.

use std::sync::{Arc, Mutex};

use frolic_core::{EmitterSpec, Meter, ParticleSpec, Particles, Stage, WorldSpec};
use tracing_subscriber::Layer;
use tracing_subscriber::layer::{Context, SubscriberExt};
use tracing_subscriber::registry::LookupSpan;

/// A span's name, and that of what it is within.
type Within = (String, Option<String>);

/// Notes every span.
#[derive(Default, Clone)]
struct Noted(Arc<Mutex<Vec<Within>>>);

/// The name that a stage's span has as a field.
struct Name(String);

impl tracing::field::Visit for Name {
    fn record_debug(&mut self, _: &tracing::field::Field, _: &dyn std::fmt::Debug) {}

    fn record_str(&mut self, _: &tracing::field::Field, value: &str) {
        value.clone_into(&mut self.0);
    }
}

impl<S: tracing::Subscriber + for<'a> LookupSpan<'a>> Layer<S> for Noted {
    fn on_new_span(&self, attributes: &tracing::span::Attributes<'_>, id: &tracing::Id, all: Context<'_, S>) {
        let mut name = Name(attributes.metadata().name().to_owned());
        attributes.record(&mut name);
        let parent = all.span(id).and_then(|span| Some(span.parent()?.name().to_owned()));
        self.0.lock().unwrap().push((name.0, parent));
    }
}

#[test]
fn stages_are_spans_within_a_frame() {
    let noted = Noted::default();
    let subscriber = tracing_subscriber::registry().with(noted.clone());
    tracing::subscriber::with_default(subscriber, || {
        let spec = ParticleSpec::new(100).life(1.0, 1.0).emitter(EmitterSpec::rate(50.0));
        let world = WorldSpec::default().build().unwrap();
        let mut sparks = Particles::new(&spec, 1).unwrap();
        let mut meter = Meter::new();
        for _ in 0..2 {
            meter.begin_frame();
            sparks.step(&world, 1.0 / 60.0, 1, &mut meter);
            assert!(meter.end_frame().stage(Stage::Emit).as_nanos() > 0);
        }
        // Out of any frame it is a span of its own.
        let started = meter.start(Stage::Sort);
        meter.stop(started);
    });
    let noted = noted.0.lock().unwrap();
    let within = |name: &str, parent: Option<&str>| {
        noted.iter().filter(|(of, at)| of == name && at.as_deref() == parent).count()
    };
    assert_eq!(within("frame", None), 2);
    for stage in ["integrate", "retire", "emit"] {
        assert_eq!(within(stage, Some("frame")), 2, "{stage}: {noted:?}");
    }
    assert_eq!(within("sort", None), 1);
}

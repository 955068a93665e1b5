//! Shaders: the files of a program, the declarations that Rust writes before each of them, and errors that name the file and line.

use crate::device::Gpu;
use crate::device::error::GpuError;
use crate::shared::SharedStruct;
use crate::shared::apart::{self, ApartStep};
use crate::shared::cells::CellGrid;
use crate::shared::event::{self, Event, Record};
use crate::shared::finish::{self, BloomSize, Finish, SortPass};
use crate::shared::flock::{self, FlockStep, FlockTarget, SeenSlot};
use crate::shared::frame::{self, Eye, Frame, Lamp};
use crate::shared::look::{self, Draw, Lit, Packed, PackedCurve, PackedHeading, PackedMotion, PackedSprite};
use crate::shared::step::{
    self, Aim, Collector, Collider, CurlWave, Emitter, Field, Newborn, Step, TrailHead,
};

macro_rules! files {
    ($($name:ident => $declarations:expr;)*) => {
        /// A file of shader code.
        #[derive(Debug, Clone, Copy, PartialEq, Eq)]
        #[allow(non_camel_case_types)]
        pub(crate) enum File { $($name,)* }

        impl File {
            const fn text(self) -> &'static str {
                match self { $(Self::$name => include_str!(concat!(stringify!($name), ".wgsl")),)* }
            }

            const fn name(self) -> &'static str {
                match self { $(Self::$name => concat!("shaders/", stringify!($name), ".wgsl"),)* }
            }

            /// What Rust declares for the file: structures, tags, limits, and access to records.
            fn declarations(self) -> Vec<String> {
                match self { $(Self::$name => $declarations.into_iter().collect(),)* }
            }
        }
    };
}

#[cfg(test)]
mod twins;

const NOTHING: [String; 0] = [];

files! {
    aim => [step::shape_tags(), Aim::declaration()];
    apart => [step::feature_tags(), apart::apart_tags(), apart::apart_limits(), step::contact_limits(), ApartStep::declaration()];
    backdrop => NOTHING;
    bloom => [BloomSize::declaration(), finish::kernels()];
    billboard => NOTHING;
    cells => [CellGrid::declaration()];
    collide => [step::contact_limits()];
    colliders => NOTHING;
    compose => NOTHING;
    cull => [finish::sort_tags()];
    device_elements => [Lit::reader("read_lit", "merged", 1)];
    disc => NOTHING;
    event_records => [
        event::event_tags(), Event::declaration(), Record::declaration(),
        Record::reader("read_record", "blocks", 1), Record::writer("write_record", "blocks"),
    ];
    events => NOTHING;
    fields => [step::gust_limits()];
    flock_arrange => NOTHING;
    flock_elements => [flock::flock_tags(), Lit::reader("read_lit", "merged", 1)];
    flock_hunt => NOTHING;
    flock_seen => [flock::flock_tags(), SeenSlot::declaration()];
    flock_state => [
        flock::flock_tags(), flock::flock_limits(), finish::sort_tags(), FlockTarget::declaration(), FlockStep::declaration(),
    ];
    flock_steer => NOTHING;
    frame => [frame::limits(), Lamp::declaration(), Eye::declaration(), Frame::declaration()];
    fullscreen => NOTHING;
    grid => [finish::sort_tags(), step::call_tags()];
    hash => NOTHING;
    look => [look::look_tags(), Draw::declaration(), PackedSprite::declaration(), Lit::declaration()];
    mesh => NOTHING;
    moves => [step::feature_tags()];
    noise => NOTHING;
    on_device => NOTHING;
    packed_elements => [
        Packed::declaration(), PackedMotion::declaration(), PackedHeading::declaration(), PackedCurve::declaration(),
        Packed::reader("read_packed", "records", 4), PackedMotion::reader("read_motion", "records", 4),
        PackedHeading::reader("read_heading", "records", 4),
        PackedCurve::reader("read_curve", "records", 4), PackedSprite::reader("read_sprite", "records", 4),
        Lit::reader("read_lit", "merged", 1),
    ];
    rectangle => NOTHING;
    resolve => [Finish::declaration(), finish::tone_limits()];
    ribbon => NOTHING;
    scan => [step::call_tags()];
    solid => NOTHING;
    sort => [finish::sort_tags(), SortPass::declaration()];
    step => [Emitter::declaration(), Newborn::declaration()];
    step_state => [
        step::step_tags(), step::counter_tags(), Collider::declaration(), Collector::declaration(),
        Field::declaration(), CurlWave::declaration(), Step::declaration(),
    ];
    trail_elements => [
        step::trail_limits(), TrailHead::declaration(), TrailHead::reader("read_head", "trail", 1),
        Lit::reader("read_lit", "merged", 1),
    ];
    trails => [step::trail_limits(), TrailHead::declaration(), TrailHead::writer("write_head", "next_trail")];
    vertices => NOTHING;
}

/// A program: the files it is made of, in order.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Program {
    pub(crate) name: &'static str,
    pub(crate) files: &'static [File],
}

macro_rules! programs {
    ($($name:ident = [$($file:ident),*];)*) => {
        $(pub(crate) const $name: Program =
            Program { name: stringify!($name), files: &[$(File::$file),*] };)*
        /// All programs, for tests.
        #[cfg(test)]
        pub(crate) const ALL: &[Program] = &[$($name),*];
    };
}

programs! {
    DISC = [hash, frame, look, packed_elements, vertices, disc];
    DISC_ON_DEVICE = [hash, frame, look, device_elements, on_device, vertices, disc];
    DISC_OF_FLOCK = [hash, frame, look, flock_elements, on_device, vertices, disc];
    RECTANGLE = [hash, frame, look, packed_elements, vertices, billboard, rectangle];
    RECTANGLE_ON_DEVICE = [hash, frame, look, device_elements, on_device, vertices, billboard, rectangle];
    RECTANGLE_OF_FLOCK = [hash, frame, look, flock_elements, on_device, vertices, billboard, rectangle];
    MESH = [hash, frame, look, packed_elements, vertices, billboard, solid, mesh];
    MESH_ON_DEVICE = [hash, frame, look, device_elements, on_device, vertices, billboard, solid, mesh];
    MESH_OF_FLOCK = [hash, frame, look, flock_elements, on_device, vertices, billboard, solid, mesh];
    RIBBON = [hash, frame, look, packed_elements, vertices, solid, ribbon];
    RIBBON_ON_DEVICE = [hash, frame, look, device_elements, on_device, vertices, solid, ribbon];
    RIBBON_OF_FLOCK = [hash, frame, look, flock_elements, on_device, vertices, solid, ribbon];
    RIBBON_TRAIL = [hash, frame, look, trail_elements, vertices, solid, ribbon];
    CULL = [hash, frame, look, packed_elements, scan, cull];
    CULL_ON_DEVICE = [hash, frame, look, device_elements, on_device, scan, cull];
    CULL_OF_FLOCK = [hash, frame, look, flock_elements, on_device, scan, cull];
    CULL_TRAIL = [hash, frame, look, trail_elements, scan, cull];
    SORT = [scan, sort];
    STEP = [hash, noise, scan, aim, step_state, event_records, fields, colliders, collide, moves, step];
    GRID = [cells, grid];
    APART = [hash, scan, step_state, colliders, cells, apart];
    FLOCK_ARRANGE = [hash, scan, step_state, cells, flock_state, flock_arrange];
    FLOCK_SEEN = [flock_seen];
    FLOCK_HUNT = [hash, scan, step_state, cells, flock_state, flock_hunt];
    FLOCK_STEER = [hash, noise, scan, step_state, fields, colliders, collide, moves, cells, flock_state, flock_steer];
    CARRY = [scan, step_state, trails];
    EVENTS = [hash, scan, aim, step_state, event_records, events];
    BACKDROP = [hash, frame, fullscreen, backdrop];
    COMPOSE = [hash, frame, fullscreen, compose];
    BLOOM = [bloom];
    RESOLVE = [fullscreen, resolve];
}

impl Program {
    /// The whole text, and where each file starts in it.
    pub(crate) fn text(&self) -> (String, Vec<(usize, &'static str)>) {
        let mut text = SWITCHES.to_owned();
        let mut starts = vec![(1, "declarations")];
        for file in self.files {
            starts.push((text.lines().count() + 1, "declarations"));
            file.declarations().iter().for_each(|declaration| text.push_str(declaration));
            starts.push((text.lines().count() + 1, file.name()));
            text.push_str(file.text());
        }
        (text, starts)
    }

    /// Compiles it.
    ///
    /// # Errors
    /// Names the file and line of the first mistake.
    pub(crate) fn compile(&self, gpu: &Gpu) -> Result<wgpu::ShaderModule, GpuError> {
        let (text, starts) = self.text();
        compile(gpu, self.name, text, &starts)
    }
}

fn compile(
    gpu: &Gpu,
    name: &str,
    text: String,
    starts: &[(usize, &'static str)],
) -> Result<wgpu::ShaderModule, GpuError> {
    let scope = gpu.device().push_error_scope(wgpu::ErrorFilter::Validation);
    let module = gpu.device().create_shader_module(wgpu::ShaderModuleDescriptor {
        label: Some(name),
        source: wgpu::ShaderSource::Wgsl(text.into()),
    });
    if pollster::block_on(scope.pop()).is_none() {
        return Ok(module);
    }
    let info = pollster::block_on(module.get_compilation_info());
    let message = info.messages.first();
    let line = message.and_then(|message| message.location).map_or(1, |place| place.line_number as usize);
    let problem = message.map_or_else(|| "does not compile".to_owned(), |message| message.message.clone());
    Err(at(starts, line, problem))
}

/// An error at a line of a text that was put together.
pub(crate) fn at(starts: &[(usize, &'static str)], line: usize, problem: String) -> GpuError {
    let (first, file) =
        starts.iter().rev().find(|(first, _)| *first <= line).copied().unwrap_or((1, "declarations"));
    GpuError::Shader { file: file.to_owned(), line: line + 1 - first, problem }
}

/// Switches that differ from pipeline to pipeline.
const SWITCHES: &str = "\
override SOLID: bool = false;
override SOFT: bool = false;
override ENDS_LIVES: bool = false;
override FACES: bool = false;
override FLAGS: u32 = 0xffffffffu;
override FEATURES: u32 = 0u;
override TRAILS: bool = false;
override EVENTS: u32 = 0u;
";

#[cfg(test)]
mod tests {
    use super::*;

    /// Every program compiles and is sound, without a device: names, types, bindings, uniformity.
    #[test]
    fn programs_are_sound() {
        for program in ALL {
            let (text, starts) = program.text();
            let module = naga::front::wgsl::parse_str(&text).unwrap_or_else(|error| {
                let line = error.location(&text).map_or(1, |place| place.line_number as usize);
                panic!("{}: {}", program.name, at(&starts, line, error.message().to_owned()))
            });
            let mut validator = naga::valid::Validator::new(
                naga::valid::ValidationFlags::all(),
                naga::valid::Capabilities::default(),
            );
            if let Err(error) = validator.validate(&module) {
                panic!("{}: {}", program.name, error.emit_to_string(&text));
            }
        }
    }

    /// An error names the file of a mistake, and the line within that file.
    #[test]
    fn errors_name_file_and_line() {
        let (text, starts) = DISC.text();
        let wrong = text.replace("let wanted = lit.radius * scale;", "let wanted = lit.radios * scale;");
        let error = naga::front::wgsl::parse_str(&wrong).unwrap_err();
        let line = error.location(&wrong).unwrap().line_number as usize;
        let told = at(&starts, line, error.message().to_owned()).to_string();
        let file = include_str!("disc.wgsl");
        let own = file.lines().position(|line| line.contains("let wanted")).unwrap() + 1;
        assert!(told.starts_with(&format!("shaders/disc.wgsl:{own}: ")), "{told}");
        // The same from a device.
        let gpu = Gpu::open(crate::GpuSpec::default()).unwrap();
        let told = compile(&gpu, "broken", wrong, &starts).unwrap_err().to_string();
        assert!(told.starts_with(&format!("shaders/disc.wgsl:{own}: ")), "{told}");
        assert!(DISC.compile(&gpu).is_ok());
    }

    /// The offsets by which Rust packs every structure are those of WGSL.
    #[test]
    fn layouts_are_those_of_wgsl() {
        use crate::shared::Shared;
        fn check<T: Shared>(program: Program) {
            let module = naga::front::wgsl::parse_str(&program.text().0).unwrap();
            let mut layouter = naga::proc::Layouter::default();
            layouter.update(module.to_ctx()).unwrap();
            let name = T::type_name();
            let (handle, ty) =
                module.types.iter().find(|(_, ty)| ty.name.as_deref() == Some(name.as_str())).unwrap();
            assert_eq!(layouter[handle].size as usize, T::WORDS * 4, "size of {name}");
            let naga::TypeInner::Struct { members, .. } = &ty.inner else { panic!("{name} is no structure") };
            let offsets: Vec<_> = members.iter().map(|member| member.offset as usize / 4).collect();
            assert_eq!(offsets, T::offsets(), "offsets of {name}");
        }
        check::<Frame>(DISC);
        check::<Draw>(DISC);
        check::<Step>(STEP);
        check::<Collider>(STEP);
        check::<Collector>(STEP);
        check::<Field>(STEP);
        check::<CurlWave>(STEP);
        check::<Emitter>(STEP);
        check::<Newborn>(STEP);
        check::<Event>(STEP);
        check::<Finish>(RESOLVE);
        check::<BloomSize>(BLOOM);
        check::<SortPass>(SORT);
        check::<CellGrid>(GRID);
        check::<FlockStep>(FLOCK_STEER);
        check::<FlockTarget>(FLOCK_STEER);
        check::<SeenSlot>(FLOCK_SEEN);
        check::<ApartStep>(APART);
    }
}

//! Shaders: files put together, numbers that the processor's code has too, and errors that name the file and line.

use crate::device::Gpu;
use crate::error::GpuError;
use crate::numbers::{GRID_WIDTH, HEAD_WORDS};
use frolic_draw::backend::{AS_DEEP, FADE, LEAST_RISE, MOST_LEAN, NEAR, NEAR_FADE, PLACES, THINNEST, WHITE};
use frolic_draw::cpu::SMALLEST;

/// Keys that a thread group sorts at once.
pub(crate) const SORT_TILE: u32 = 4096;

/// Depth that stands for the sky's, m.
pub(crate) const FARTHEST: f32 = 1e30;

macro_rules! files {
    ($($name:ident),* $(,)?) => {
        /// A file of shader code.
        #[derive(Debug, Clone, Copy, PartialEq, Eq)]
        #[allow(non_camel_case_types)]
        pub(crate) enum File { $($name,)* }

        impl File {
            const fn text(self) -> &'static str {
                match self { $(Self::$name => include_str!(concat!("shaders/", stringify!($name), ".wgsl")),)* }
            }

            const fn name(self) -> &'static str {
                match self { $(Self::$name => concat!("shaders/", stringify!($name), ".wgsl"),)* }
            }
        }
    };
}

files!(
    aim, backdrop, bloom, body, card, carry, compose, cull, disc, events, facet, feel, frame, happen, hash,
    look, meet, noise, packed, quad, ranks, resident, resolve, ribbon, solid, sort, step, told, trail, which,
    wide,
);

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
    DISC = [hash, frame, look, packed, which, disc];
    DISC_RESIDENT = [hash, frame, look, resident, which, disc];
    QUAD = [hash, frame, look, packed, which, card, quad];
    QUAD_RESIDENT = [hash, frame, look, resident, which, card, quad];
    FACET = [hash, frame, look, packed, which, card, solid, facet];
    FACET_RESIDENT = [hash, frame, look, resident, which, card, solid, facet];
    RIBBON = [hash, frame, look, packed, which, solid, ribbon];
    RIBBON_RESIDENT = [hash, frame, look, resident, which, solid, ribbon];
    RIBBON_TRAIL = [hash, frame, look, trail, which, solid, ribbon];
    CULL = [hash, frame, look, packed, ranks, cull];
    CULL_RESIDENT = [hash, frame, look, resident, ranks, cull];
    CULL_TRAIL = [hash, frame, look, trail, ranks, cull];
    SORT = [ranks, sort];
    STEP = [hash, noise, ranks, told, aim, happen, feel, body, meet, step];
    CARRY = [ranks, told, carry];
    EVENTS = [hash, ranks, told, aim, happen, events];
    BACKDROP = [hash, frame, wide, backdrop];
    COMPOSE = [hash, frame, wide, compose];
    BLOOM = [bloom];
    RESOLVE = [wide, resolve];
}

impl Program {
    /// The whole text, and where each file starts in it.
    pub(crate) fn text(&self) -> (String, Vec<(usize, &'static str)>) {
        let mut text = numbers();
        let mut starts = vec![(1, "numbers")];
        for file in self.files {
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
        starts.iter().rev().find(|(first, _)| *first <= line).copied().unwrap_or((1, "numbers"));
    GpuError::Shader { file: file.to_owned(), line: line + 1 - first, problem }
}

/// What both backends must agree about, and what differs from pipeline to pipeline.
fn numbers() -> String {
    let (near, far) = bloom_kernels();
    let places = PLACES.map(|[x, y]| format!("vec2({x:?}, {y:?})")).join(", ");
    let list = |kernel: &[f32]| kernel.iter().map(|v| format!("{v:?}")).collect::<Vec<_>>().join(", ");
    format!(
        "const NEAR: f32 = {NEAR:?};\n\
         const NEAR_FADE: f32 = {NEAR_FADE:?};\n\
         const SMALLEST: f32 = {SMALLEST:?};\n\
         const FADE: f32 = {FADE:?};\n\
         const THINNEST: f32 = {THINNEST:?};\n\
         const AS_DEEP: f32 = {AS_DEEP:?};\n\
         const PLACES: array<vec2<f32>, {}> = array({places});\n\
         const LEAST_RISE: f32 = {LEAST_RISE:?};\n\
         const MOST_LEAN: f32 = {MOST_LEAN:?};\n\
         const WHITE: f32 = {WHITE:?};\n\
         const FARTHEST: f32 = {FARTHEST:?};\n\
         const SORT_TILE: u32 = {SORT_TILE}u;\n\
         const GUST_SEED: u32 = {}u;\n\
         const ON_EDGE: vec2<f32> = vec2({:?}, {:?});\n\
         const GRID_WIDTH: u32 = {GRID_WIDTH}u;\n\
         const NEAR_KERNEL: array<f32, {}> = array({});\n\
         const FAR_REACH: i32 = {};\n\
         const FAR_KERNEL: array<f32, {}> = array({});\n\
         override SOLID: bool = false;\n\
         override SOFT: bool = false;\n\
         override ENDS_LIVES: bool = false;\n\
         override FACES: bool = false;\n\
         override FLAGS: u32 = 0xffffffffu;\n\
         override FIELDS: u32 = 0u;\n\
         const TRAIL_HEAD: u32 = {HEAD_WORDS}u;\n\
         override TRAILS: bool = false;\n\
         override EVENTS: u32 = 0u;\n",
        PLACES.len(),
        frolic_core::backend::GUST_SEED,
        frolic_core::backend::ON_EDGE[0],
        frolic_core::backend::ON_EDGE[1],
        near.len(),
        list(&near),
        far.len(),
        far.len(),
        list(&far),
    )
}

/// Boxes in a row as one kernel each, from the middle out: three of radius 1, and of 5, 6 and 7.
fn bloom_kernels() -> (Vec<f32>, Vec<f32>) {
    let rows = |radii: [usize; 3]| {
        let mut kernel = vec![1.0f64];
        for radius in radii {
            let width = 2 * radius + 1;
            let mut wider = vec![0.0; kernel.len() + 2 * radius];
            for (nth, value) in kernel.iter().enumerate() {
                wider[nth..nth + width].iter_mut().for_each(|v| *v += value / width as f64);
            }
            kernel = wider;
        }
        kernel[kernel.len() / 2..].iter().map(|v| *v as f32).collect()
    };
    (rows([1, 1, 1]), rows([5, 6, 7]))
}

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

    /// A mistake is told by the file it is in and that file's own line.
    #[test]
    fn mistakes_are_told_by_file_and_line() {
        let (text, starts) = DISC.text();
        let wrong = text.replace("let wanted = lit.radius * scale;", "let wanted = lit.radios * scale;");
        let error = naga::front::wgsl::parse_str(&wrong).unwrap_err();
        let line = error.location(&wrong).unwrap().line_number as usize;
        let told = at(&starts, line, error.message().to_owned()).to_string();
        let file = include_str!("shaders/disc.wgsl");
        let own = file.lines().position(|line| line.contains("let wanted")).unwrap() + 1;
        assert!(told.starts_with(&format!("shaders/disc.wgsl:{own}: ")), "{told}");
        // As a device tells it.
        let gpu = Gpu::open(crate::GpuSpec::default()).unwrap();
        let told = compile(&gpu, "broken", wrong, &starts).unwrap_err().to_string();
        assert!(told.starts_with(&format!("shaders/disc.wgsl:{own}: ")), "{told}");
        assert!(DISC.compile(&gpu).is_ok());
    }

    /// Bytes of a structure as a program lays it out.
    fn size_of(program: Program, name: &str) -> u32 {
        let module = naga::front::wgsl::parse_str(&program.text().0).unwrap();
        let mut layouter = naga::proc::Layouter::default();
        layouter.update(module.to_ctx()).unwrap();
        let (handle, _) = module.types.iter().find(|(_, ty)| ty.name.as_deref() == Some(name)).unwrap();
        layouter[handle].size
    }

    /// What the processor packs is as large as what shaders read.
    #[test]
    fn layouts_are_those_of_the_shaders() {
        use crate::pipelines::{DRAW_BYTES, FRAME_BYTES};
        use crate::told::{EMITTER_WORDS, STEP_WORDS};
        assert_eq!(u64::from(size_of(DISC, "Frame")), FRAME_BYTES);
        assert_eq!(u64::from(size_of(DISC, "Draw")), DRAW_BYTES);
        assert_eq!(u64::from(size_of(STEP, "Step")), STEP_WORDS * 4);
        assert_eq!(u64::from(size_of(STEP, "Emitter")), EMITTER_WORDS * 4);
        assert_eq!(u64::from(size_of(STEP, "Event")), crate::events::EVENT_WORDS * 4);
    }

    #[test]
    fn bloom_kernels_keep_the_light() {
        let (near, far) = bloom_kernels();
        for kernel in [near, far] {
            let sum = kernel[0] + 2.0 * kernel[1..].iter().sum::<f32>();
            assert!((sum - 1.0).abs() < 1e-5, "{sum}");
        }
    }
}

//! Single shader functions against their twins in Rust: each runs over an array on the device, and every value is compared.

use std::sync::Arc;

use frolic_core::backend::{
    DeviceField, EmitterAxes, Emitters, MOST_SOLID, Motion, OwnFields, device_colliders, fade, is_simple,
};
use frolic_core::random::{hash3, unit};
use frolic_core::{
    AimSpec, Assets, AttractorSpec, BodyRow, CurlSpec, EmitterSpec, Falloff, FieldKind, FieldSpec, GustSpec,
    Meter, ParticleSpec, Particles, Ramp, ShapeSpec, VortexSpec, World, WorldSpec, gust_noise,
};
use frolic_draw::backend::{Level, flipbook_at};
use frolic_draw::{
    AtlasBuilder, BackdropSpec, BillboardSpec, CameraSpec, Colour, DetailSpec, ImageSize, Instances, Library,
    Look, LookSpec, PackSpec, Picture, Play, RibbonSpec, Shape, Technique,
};
use frolic_list::{ListScratch, ListSpec, Surroundings};
use wgpu::BufferUsages;

use crate::device::{DeviceCounters, Gpu, upload};
use crate::draw::looks::{Looks, Slot};
use crate::draw::pipelines::group;
use crate::population::read::read_words;
use crate::shaders::{DISC, Program, RIBBON, STEP, compile};
use crate::shared::frame::{ENDLESS, FrameView};
use crate::shared::step::{Emitter, Step, StepBirths, StepShard, StepWorld};
use crate::shared::{SharedStruct, step};

/// A uniform, table or texture that a function reads, with its group and binding.
type Bound = (u32, u32, Resource);

#[derive(Clone)]
enum Resource {
    Buffer(wgpu::Buffer),
    Texture(wgpu::TextureView),
}

impl Resource {
    fn binding(&self) -> wgpu::BindingResource<'_> {
        match self {
            Self::Buffer(buffer) => buffer.as_entire_binding(),
            Self::Texture(view) => wgpu::BindingResource::TextureView(view),
        }
    }
}

/// Runs the body of a WGSL function over inputs. The body sees `a` and `b`, vectors of four words, and as floats `p` and `q`; it returns a
/// vector of four floats.
fn run(
    program: Program,
    constants: &[(&str, f64)],
    bound: &[Bound],
    body: &str,
    inputs: &[[[u32; 4]; 2]],
) -> Vec<[f32; 4]> {
    let gpu = Gpu::shared().unwrap();
    let (mut text, mut starts) = program.text();
    starts.push((text.lines().count() + 1, "harness"));
    text.push_str(&format!(
        "
@group(3) @binding(20) var<storage, read> harness_in: array<vec4<u32>>;
@group(3) @binding(21) var<storage, read_write> harness_out: array<vec4<f32>>;
fn harness_of(a: vec4<u32>, b: vec4<u32>) -> vec4<f32> {{
    let p = bitcast<vec4<f32>>(a);
    let q = bitcast<vec4<f32>>(b);
    {body}
}}
@compute @workgroup_size(64)
fn harness(@builtin(global_invocation_id) id: vec3<u32>) {{
    if id.x < {}u {{
        harness_out[id.x] = harness_of(harness_in[id.x * 2u], harness_in[id.x * 2u + 1u]);
    }}
}}
",
        inputs.len()
    ));
    let module = compile(&gpu, program.name, text, &starts).unwrap();
    let pipeline = gpu.device().create_compute_pipeline(&wgpu::ComputePipelineDescriptor {
        label: Some("harness"),
        layout: None,
        module: &module,
        entry_point: Some("harness"),
        compilation_options: wgpu::PipelineCompilationOptions { constants, ..Default::default() },
        cache: None,
    });
    let from =
        buffer(&gpu, BufferUsages::STORAGE, &inputs.iter().flatten().flatten().copied().collect::<Vec<_>>());
    let bytes = inputs.len() as u64 * 16;
    let to = gpu.buffer("out", bytes, BufferUsages::STORAGE | BufferUsages::COPY_SRC);
    let mut encoder = gpu.device().create_command_encoder(&wgpu::CommandEncoderDescriptor::default());
    {
        let mut pass = encoder.begin_compute_pass(&wgpu::ComputePassDescriptor::default());
        pass.set_pipeline(&pipeline);
        for nth in 0..4 {
            let mut resources: Vec<_> = bound
                .iter()
                .filter(|(of, ..)| *of == nth)
                .map(|(_, binding, resource)| (*binding, resource.binding()))
                .collect();
            if nth == 3 {
                resources.extend([(20, from.as_entire_binding()), (21, to.as_entire_binding())]);
            }
            if !resources.is_empty() {
                let group = group(&gpu, &pipeline.get_bind_group_layout(nth), &resources);
                pass.set_bind_group(nth, &group, &[]);
            }
        }
        pass.dispatch_workgroups(inputs.len().div_ceil(64) as u32, 1, 1);
    }
    gpu.queue().submit([encoder.finish()]);
    let words = read_words(&gpu, &to, bytes).unwrap();
    gpu.check().unwrap();
    words.chunks_exact(4).map(|row| std::array::from_fn(|nth| f32::from_bits(row[nth]))).collect()
}

fn buffer(gpu: &Gpu, usage: BufferUsages, words: &[u32]) -> wgpu::Buffer {
    let made = gpu.buffer("bound", words.len() as u64 * 4, usage | BufferUsages::COPY_DST);
    upload(gpu, &made, 0, words, &mut DeviceCounters::default());
    made
}

fn uniform(value: &impl SharedStruct) -> Resource {
    Resource::Buffer(buffer(&Gpu::shared().unwrap(), BufferUsages::UNIFORM, &value.words()))
}

/// Random floats between two bounds, eight an input.
fn random(count: u32, low: f32, high: f32) -> Vec<[[f32; 4]; 2]> {
    let value = |nth: u32, k: u32| low + (high - low) * unit(hash3(nth, k, 0x7717_0001)[0]);
    (0..count).map(|nth| [0, 4].map(|first| std::array::from_fn(|k| value(nth, first + k as u32)))).collect()
}

fn words(inputs: &[[[f32; 4]; 2]]) -> Vec<[[u32; 4]; 2]> {
    inputs.iter().map(|input| input.map(|row| row.map(f32::to_bits))).collect()
}

/// Every value of the device's is as near to Rust's as `tolerance`, in units of the larger of 1 and the value.
fn agree<const N: usize>(device: &[[f32; 4]], rust: impl IntoIterator<Item = [f32; N]>, tolerance: f32) {
    let mut count = 0;
    for (nth, (there, here)) in device.iter().zip(rust).enumerate() {
        for k in 0..N {
            let off = (there[k] - here[k]).abs() / here[k].abs().max(1.0);
            assert!(off <= tolerance, "value {k} of {nth}: {} on the device, {} in Rust", there[k], here[k]);
        }
        count += 1;
    }
    assert_eq!(count, device.len());
}

#[test]
fn noise() {
    let inputs = random(4000, -300.0, 300.0);
    let device = run(STEP, &[], &[], "return vec4(gust_noise(p.xyz, 77u), 0.0);", &words(&inputs));
    agree(&device, inputs.iter().map(|[[x, y, z, _], _]| gust_noise([*x, *y, *z], 77)), 2e-5);
}

/// Random numbers are the same to the bit.
#[test]
fn random_numbers() {
    let inputs: Vec<[[u32; 4]; 2]> = (0..4000u32).map(|nth| [[nth, nth * 977, !nth, 0], [0; 4]]).collect();
    let device = run(STEP, &[], &[], "return vec4(unit(hash3(a.xyz)), 0.0);", &inputs);
    agree(&device, inputs.iter().map(|[[x, y, z, _], _]| hash3(*x, *y, *z).map(unit)), 0.0);
}

#[test]
fn fades_of_fields() {
    let inputs = random(4000, -3.0, 3.0);
    let device = run(STEP, &[], &[], "return vec4(fade(p.xyz - q.xyz, abs(q.w)));", &words(&inputs));
    agree(
        &device,
        inputs.iter().map(|[[x, y, z, _], [a, b, c, w]]| [fade([*a, *b, *c, w.abs()], [*x, *y, *z])]),
        1e-5,
    );
}

/// One step through every kind of field.
#[test]
fn fields() {
    let mut curl = CurlSpec::default();
    (curl.strength, curl.size) = (1.5, 2.0);
    let mut vortex = VortexSpec::default();
    (vortex.speed, vortex.radius, vortex.inward, vortex.along) = (3.0, 0.8, 0.5, 0.7);
    let pull = |strength, falloff| {
        let mut spec = AttractorSpec::default();
        (spec.strength, spec.radius, spec.falloff) = (strength, 0.5, falloff);
        FieldSpec::new(FieldKind::Attractor(spec))
    };
    let mut world = WorldSpec::default().wind([1.0, 0.2, -0.5]);
    world.gusts = Some(GustSpec::default());
    world.field = vec![
        FieldSpec::new(FieldKind::Push { acceleration: [0.4, 2.0, -1.0] })
            .position([0.5, 0.0, 0.0])
            .reach(2.0),
        FieldSpec::new(FieldKind::Wind { velocity: [0.0, 0.0, 2.0] }).position([-0.5, 0.5, 0.0]).reach(3.0),
        FieldSpec::new(FieldKind::Vortex(vortex)),
        FieldSpec::new(FieldKind::Curl(curl)).reach(4.0),
        pull(4.0, Falloff::Square),
        pull(-2.0, Falloff::Linear).position([1.0, 1.0, 0.0]),
        pull(1.0, Falloff::None).position([-1.0, 0.0, 1.0]),
        pull(0.5, Falloff::Spring).position([0.0, 1.0, 0.0]),
    ];
    let world = world.build().unwrap();
    let spec = ParticleSpec::new(3000)
        .life(100.0, 100.0)
        .motion(1.0, 0.6)
        .emitter(EmitterSpec::burst(3000, 0.0).shape(ShapeSpec::Sphere { radius: 2.0 }).speed(0.0, 2.0));
    let (dt, mut meter) = (1.0 / 60.0, Meter::new());
    let mut particles = Particles::new(&spec, 9).unwrap();
    particles.step(&world, dt, 2, &mut meter);
    let rows = |particles: &Particles| -> Vec<BodyRow> {
        (0..particles.len()).filter_map(|nth| particles.columns().row(nth)).collect()
    };
    let (time, before) = (particles.time(), rows(&particles));
    particles.step(&world, dt, 1, &mut meter);
    let after = rows(&particles);
    assert!(before.len() == 3000 && after.len() == 3000);
    let inputs: Vec<_> = before
        .iter()
        .map(|row| {
            [[row.px, row.py, row.pz, 0.0], [row.vx, row.vy, row.vz, 0.0]].map(|row| row.map(f32::to_bits))
        })
        .collect();
    let step = uniform(&step_of(&spec, &world, time, dt));
    let features = f64::from(step::HAS_GUSTS | step::HAS_FIELDS);
    let body = "let to = moved(p.xyz, q.xyz, false, false); return vec4(to.velocity, to.at.x);";
    let device = run(STEP, &[("FEATURES", features)], &[(0, 0, step), (1, 0, no_grids())], body, &inputs);
    agree(&device, after.iter().map(|row| [row.vx, row.vy, row.vz, row.px]), 2e-4);
    let moved = after.iter().zip(&before).filter(|(a, b)| (a.vx - b.vx).abs() > 0.005).count();
    assert!(moved > 1500, "fields hardly act: {moved}");
}

/// A texture in which there is no grid.
fn no_grids() -> Resource {
    let gpu = Gpu::shared().unwrap();
    let texture = gpu.device().create_texture(&wgpu::TextureDescriptor {
        label: Some("grids"),
        size: wgpu::Extent3d { width: 1, height: 1, depth_or_array_layers: 1 },
        mip_level_count: 1,
        sample_count: 1,
        dimension: wgpu::TextureDimension::D2,
        format: wgpu::TextureFormat::R32Uint,
        usage: wgpu::TextureUsages::TEXTURE_BINDING,
        view_formats: &[],
    });
    Resource::Texture(texture.create_view(&wgpu::TextureViewDescriptor::default()))
}

fn step_of(spec: &ParticleSpec, world: &World, time: f64, dt: f32) -> Step {
    let own = OwnFields::new(spec, &Assets::default()).unwrap();
    let (mut fields, mut waves): (Vec<DeviceField>, _) = Default::default();
    own.device_fields(world, time, &mut fields, &mut waves);
    let solids = device_colliders(world, &own);
    let around = StepWorld { solids: &solids, grids: &[], collectors: &[], fields: &fields, waves: &waves };
    let shard = StepShard { capacity: 1, counters: 0, parity: 0, is_first: true, is_last: true };
    let motion = Motion::new(&spec.motion, world, time, dt);
    assert!(fields.len() <= MOST_SOLID);
    Step::new(&motion, spec, 1, StepBirths::default(), shard, [0; 3], around)
}

/// Positions and directions of newborns, for every shape and aim that the device draws from.
#[test]
fn aims() {
    let around = |direction, spread_degrees| {
        let mut aim = AimSpec::default();
        (aim.direction, aim.spread_degrees) = (direction, spread_degrees);
        aim
    };
    let mut fan = around([1.0, 1.0, 0.0], 40.0);
    fan.fan = Some([0.0, 0.0, 1.0]);
    let aims = [around([0.2, 1.0, -0.4], 30.0), fan];
    let shapes = [
        ShapeSpec::Point,
        ShapeSpec::Disc { radius: 0.7, normal: [1.0, 0.5, 0.0] },
        ShapeSpec::Sphere { radius: 1.2 },
        ShapeSpec::SphereSurface { radius: 0.6 },
        ShapeSpec::Box { size: [1.0, 2.0, 0.5] },
        ShapeSpec::Line { to: [1.0, -1.0, 2.0] },
        ShapeSpec::Ring { radius: 0.9, normal: [0.0, 1.0, 0.3] },
    ];
    let count = 500;
    for (aim, shape) in aims.iter().flat_map(|aim| shapes.iter().map(move |shape| (aim, shape))) {
        let mut emitter = EmitterSpec::burst(count, 0.0).shape(shape.clone()).speed(1.0, 3.0);
        emitter.aim = *aim;
        assert!(is_simple(&emitter));
        let spec = ParticleSpec::new(count).emitter(emitter.clone());
        let mut emitters = Emitters::new(&spec.emitter, &Assets::default()).unwrap();
        let (mut rows, mut on_device): (Vec<BodyRow>, _) = (Vec::new(), None);
        emitters.due(&spec.emitter, 0.0, 1.0 / 60.0, |due, births| {
            rows.extend(births.rows(&spec, 5, &due, 0, u64::from(count)));
            on_device = Some(Emitter::of(&emitter, &EmitterAxes::of(&emitter), &due, 0, None));
        });
        assert_eq!(rows.len(), count as usize);
        let emitters = buffer(&Gpu::shared().unwrap(), BufferUsages::STORAGE, &on_device.unwrap().words());
        let emitters = Resource::Buffer(emitters);
        let inputs: Vec<[[u32; 4]; 2]> = rows.iter().map(|row| [[5, row.id, 0, 0], [0; 4]]).collect();
        let start = "let e = emitters[0]; let d = unit(hash3(vec3(a.x, a.y, 1u)));";
        let way = format!("{start} return vec4(direction_of(e, d) * speed(e.aim, d.z), 0.0);");
        let device = run(STEP, &[], &[(0, 10, emitters.clone())], &way, &inputs);
        agree(&device, rows.iter().map(|row| [row.vx, row.vy, row.vz]), 1e-5);
        let place = "let e = emitters[0]; return vec4(e.position + spot(e.shape, e.aim, unit(hash3(vec3(a.x, a.y, 0u)))), 0.0);";
        let device = run(STEP, &[], &[(0, 10, emitters)], place, &inputs);
        agree(&device, rows.iter().map(|row| [row.px, row.py, row.pz]), 1e-5);
    }
}

/// A look's uniform and tables.
fn look_buffers(look: &Look) -> [Bound; 2] {
    let gpu = Gpu::shared().unwrap();
    let (mut looks, mut counters) = (Looks::new(&gpu), DeviceCounters::default());
    looks.meet(&gpu, look, &mut counters).unwrap();
    looks.flush(&gpu, &mut counters).unwrap();
    let draw = looks.draw(look, &Slot::default());
    [(1, 0, uniform(&draw)), (1, 1, Resource::Buffer(looks.tables.clone()))]
}

/// How many elements are kept at a distance and size, how large, and in which form.
#[test]
fn detail() {
    let spec = DetailSpec::reach(60.0, 0.4).from(2.0, 6.0).thin_below(3.0).coarse_below(9.0);
    let mut look = LookSpec::default();
    look.detail = spec;
    let look = look.build().unwrap();
    let inputs: Vec<_> = random(6000, 0.0, 1.0)
        .into_iter()
        .map(|[[random, far, large, _], rest]| [[random, far * 70.0, large * 12.0, 0.0], rest])
        .collect();
    let [draw, _] = look_buffers(&look);
    let body = "let k = keep(p.x, p.y, p.z); \
                return select(vec4(-1.0), vec4(k.size, k.left, k.stands_for, f32(k.level)), k.there);";
    let device = run(DISC, &[], &[draw], body, &words(&inputs));
    let detail = look.parts().detail;
    let rust = inputs.iter().map(|[[random, distance, pixels, _], _]| {
        detail.keep(*random, *distance, *pixels).map_or([-1.0; 4], |kept| {
            let level = match kept.level {
                Level::Full => 0.0,
                Level::Coarse => 1.0,
                Level::Thinned => 2.0,
                Level::Tiny => 3.0,
            };
            [kept.size, kept.left, kept.stands_for, level]
        })
    });
    agree(&device, rust, 1e-4);
    assert!(device.iter().any(|row| row[0] < 0.0) && device.iter().any(|row| row[3] == 1.0));
}

/// Tints by random numbers, by a column and by height.
#[test]
fn tints() {
    let colours = ["#ff8040", "#204080", "#80ff20"].map(|hex| Colour::hex(hex).unwrap());
    let mut look = LookSpec::default();
    look.tints = colours.to_vec();
    look.colour_over_height = Ramp::new([(0.0, colours[0]), (1.0, colours[1])]);
    look.height_range = [0.0, 3.0];
    let look = look.build().unwrap();
    let inputs = random(4000, -1.0, 1.0);
    let body = "return vec4(tint_of(p.x, abs(p.y), p.z * 5.0), 0.0);";
    let device = run(DISC, &[], &look_buffers(&look), body, &words(&inputs));
    let rust = inputs.iter().map(|[[tint, random, height, _], _]| {
        if *tint < 0.0 { look.tint(random.abs(), height * 5.0) } else { look.tint_along(*tint, height * 5.0) }
    });
    agree(&device, rust, 1e-5);
}

/// Frames of flipbooks, by age, by the clock and at random.
#[test]
fn frames() {
    let mut atlas = AtlasBuilder::new(PackSpec::default());
    atlas.frames("sheet", &Picture::paint([64, 8], |_, _| [255; 4]).unwrap(), 8, 1).unwrap();
    let library = Library { atlas: Arc::new(atlas.build().unwrap()), ..Library::default() };
    let frames = 8;
    for play in [Play::Age, Play::Clock { rate: 7.0 }, Play::Pick] {
        let look = LookSpec::default().shape(Shape::Billboard(BillboardSpec::new("sheet").play(play, true)));
        let look = look.build_with(&library).unwrap();
        let inputs: Vec<[[u32; 4]; 2]> = random(3000, 0.0, 1.0)
            .iter()
            .zip(0..)
            .map(|([[age, ..], _], id)| [[age.to_bits(), id, 0, 0], [0; 4]])
            .collect();
        let [draw, _] = look_buffers(&look);
        let frame = uniform(&frame_of(&BackdropSpec::default(), 2.75));
        let body =
            "let f = frames_of(p.x, a.y); return vec4(f32(f.one - draw.sheet_first) + f.mix, 0.0, 0.0, 0.0);";
        let device = run(DISC, &[], &[(0, 0, frame), draw], body, &inputs);
        let rust = inputs.iter().map(|[[age, id, ..], _]| {
            let at = flipbook_at(play, frames, f32::from_bits(*age), *id, 2.75);
            [at]
        });
        agree(&device, rust, 1e-4);
    }
}

fn size() -> ImageSize {
    ImageSize::new(320, 200).unwrap()
}

fn frame_of(backdrop: &BackdropSpec, time: f32) -> crate::shared::frame::Frame {
    let view = CameraSpec::default().view(size()).unwrap();
    let (mut scratch, around) = (ListScratch::default(), Surroundings::new(backdrop));
    let list = scratch.list([], &ListSpec::default(), &view, &around, &mut Meter::new());
    let lighting = list.lighting();
    let seen = FrameView {
        view: &view,
        camera: &view,
        z: ENDLESS,
        map: None,
        lighting: &lighting,
        time,
        exposure: 1.0,
        most_slope: 0.0,
    };
    seen.frame()
}

/// Points along curved ribbons, and the haze over their colours, as the CPU's vertices have them.
#[test]
fn curves_and_haze() {
    let count = 200;
    let columns: Vec<Vec<f32>> = (0..9)
        .map(|k| {
            random(count, -1.0, 1.0)
                .iter()
                .map(|[row, more]| if k < 4 { row[k] } else { more[(k - 4) % 4] + 0.1 * k as f32 })
                .collect()
        })
        .collect();
    let z: Vec<f32> = columns[2].iter().map(|z| z * 60.0 - 70.0).collect();
    let at = [&columns[0][..], &columns[1][..], &z[..]];
    let (middle, tip) = (
        [&columns[3][..], &columns[4][..], &columns[5][..]],
        [&columns[6][..], &columns[7][..], &columns[8][..]],
    );
    let mut look = LookSpec::solid(Shape::Ribbon(RibbonSpec::new(1.0, 0.4, 6)), "#ff3010").unwrap();
    // Only lit looks are hazed; this little light changes no colour.
    (look.hazed, look.lit) = (1.0, 1e-7);
    let look = look.build().unwrap();
    let instances = Instances::at(at).unwrap().curved(middle, tip).unwrap();
    let mut backdrop = BackdropSpec::default();
    backdrop.sky.haze = 90.0;
    let view = CameraSpec::default().view(size()).unwrap();
    let (mut scratch, around) = (ListScratch::default(), Surroundings::new(&backdrop));
    let list = scratch.list(
        [(instances, &look)],
        &ListSpec::new(Technique::Batched),
        &view,
        &around,
        &mut Meter::new(),
    );
    let stride = frolic_draw::backend::stride(&look);
    let mut inputs = Vec::new();
    let mut rust = Vec::new();
    for batch in list.batches() {
        for (nth, entry) in list.entries(batch).enumerate() {
            let e = entry.element as usize;
            let first = list.runs(batch)[0].vertices as usize + nth * stride;
            for (k, vertex) in list.vertices()[first..first + stride].iter().enumerate() {
                let share = vertex.corner[1];
                if k % 2 == 0 {
                    inputs.push(
                        [at.map(|c| c[e]), middle.map(|c| c[e]), tip.map(|c| c[e])]
                            .map(|[x, y, z]| [x, y, z, share]),
                    );
                    rust.push(*vertex);
                }
            }
        }
    }
    assert!(rust.len() > 200, "{}", rust.len());
    let pack = |nth: [usize; 2]| -> Vec<[[u32; 4]; 2]> {
        inputs.iter().map(|rows| nth.map(|k| rows[k].map(f32::to_bits))).collect()
    };
    // A curve's three points do not fit one input: it is the sum of two.
    let of_middle = run(
        RIBBON,
        &[],
        &[],
        "return vec4(curve_at(Curve(p.xyz, q.xyz, vec3(0.0)), p.w), 0.0);",
        &pack([0, 1]),
    );
    let of_tip = run(
        RIBBON,
        &[],
        &[],
        "return vec4(curve_at(Curve(vec3(0.0), vec3(0.0), q.xyz), p.w), 0.0);",
        &pack([0, 2]),
    );
    let curve: Vec<[f32; 4]> =
        of_middle.iter().zip(&of_tip).map(|(a, b)| std::array::from_fn(|k| a[k] + b[k])).collect();
    agree(&curve, rust.iter().map(|vertex| vertex.place), 1e-4);

    let [draw, _] = look_buffers(&look);
    let frame = uniform(&frame_of(&backdrop, 0.0));
    let places: Vec<[[u32; 4]; 2]> = rust
        .iter()
        .map(|vertex| {
            let [x, y, z] = vertex.place.map(f32::to_bits);
            [[0; 4], [x, y, z, 0]]
        })
        .collect();
    let own = look.parts().over_age[0].colour;
    let body = format!(
        "return vec4(hazed(Light(vec3({:?}, {:?}, {:?}), vec3(0.0)), q.xyz, 1.0).base, 0.0);",
        own[0], own[1], own[2]
    );
    let device = run(RIBBON, &[], &[(0, 0, frame), draw], &body, &places);
    agree(&device, rust.iter().map(|vertex| vertex.colour), 1e-4);
    assert!(rust.iter().any(|vertex| (vertex.colour[0] - own[0]).abs() > 0.02), "there is no haze");
}

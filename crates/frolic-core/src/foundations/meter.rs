//! Cost and work of a frame: times of stages, and exact counters.
//!
//! Always on, at two clock reads a stage. Times are wall time and noisy. Counters are the same on every run: tests compare them for equality.

use std::time::{Duration, Instant};

use crate::foundations::custom::{CustomNames, CustomNumber, MOST_CUSTOM};
use crate::foundations::error::SpecError;
use crate::foundations::trace;

macro_rules! named_list {
    ($(#[$meta:meta])* $name:ident $names:ident { $($(#[$doc:meta])* $variant:ident = $text:literal,)* }) => {
        $(#[$meta])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
        #[non_exhaustive]
        pub enum $name {
            $($(#[$doc])* $variant,)*
            /// One of the program's own, by its number: see `custom`.
            Custom(CustomNumber),
        }

        static $names: CustomNames = CustomNames::new();

        impl $name {
            /// All built-in ones, in the order of a frame.
            pub const ALL: &'static [$name] = &[$($name::$variant,)*];

            /// Maximum number with custom ones.
            pub const MOST: usize = Self::ALL.len() + MOST_CUSTOM;

            /// Its name in reports and files.
            pub fn name(self) -> &'static str {
                match self {
                    $($name::$variant => $text,)*
                    $name::Custom(number) => $names.name(number),
                }
            }

            /// Finds one by its name in reports and files.
            pub fn named(name: &str) -> Option<Self> {
                Self::all().find(|it| it.name() == name)
            }

            /// All built-in ones, then the custom ones of this process.
            pub fn all() -> impl Iterator<Item = Self> + Clone {
                Self::ALL.iter().copied().chain($names.numbers().map(Self::Custom))
            }

            /// Place in a list of all, below `MOST`.
            pub fn index(self) -> usize {
                #[derive(Clone, Copy)]
                enum Place { $($variant,)* }
                match self {
                    $($name::$variant => Place::$variant as usize,)*
                    $name::Custom(number) => Self::ALL.len() + number.index(),
                }
            }

            /// One of the program's own. It is metered, traced, charted and compared by its name as built-in ones are. The same name gives the same
            /// one; ask once, not in each frame.
            ///
            /// ```
            #[doc = concat!("use frolic_core::", stringify!($name), ";")]
            #[doc = concat!("let own = ", stringify!($name), "::custom(\"water\")?;")]
            #[doc = concat!("assert!(own == ", stringify!($name), "::custom(\"water\")? && own.name() == \"water\");")]
            /// # Ok::<(), frolic_core::SpecError>(())
            /// ```
            ///
            /// # Errors
            /// The name is taken by a built-in one, or has other characters than small letters, digits and `_`; or a process has
            /// more than 16.
            pub fn custom(name: &str) -> Result<Self, SpecError> {
                if Self::ALL.iter().any(|it| it.name() == name) {
                    return Err(SpecError::new("name", format!("'{name}' is built in"), "write another name"));
                }
                $names.number(name).map(Self::Custom)
            }
        }
    };
}

named_list! {
    /// A step of a frame. Fused stages are recorded under the last of them.
    Stage STAGE_NAMES {
        /// Fields and integration, fused in one pass over the columns.
        Integrate = "integrate",
        /// Sorting elements by cell, and looking at those near each other.
        Neighbours = "neighbours",
        /// Steering elements by those around them.
        Steer = "steer",
        /// Pushing apart elements that touch.
        Collide = "collide",
        /// Taking out dead elements.
        Retire = "retire",
        /// New elements.
        Emit = "emit",
        /// Copying records into columns, with `storage = "objects"` only.
        Gather = "gather",
        /// Depth order for what is drawn back to front.
        Sort = "sort",
        /// Making the draw list: draw calls and, for `batched`, merged vertices.
        Batch = "batch",
        /// Sky and ground.
        Backdrop = "backdrop",
        /// The shadow map of the sun.
        Shadow = "shadow",
        /// Projecting instances and binning them to tiles.
        Project = "project",
        /// Filling pixels, tile by tile.
        Raster = "raster",
        /// Bloom, tone curve, eight bits.
        Resolve = "resolve",
        /// Packing data for a device and recording its commands.
        Encode = "encode",
        /// Handing commands to a device; it may block while the device is busy.
        Submit = "submit",
        /// Waiting for a device to finish, where a picture is read back.
        Wait = "wait",
        /// On the device: moving elements.
        DeviceStep = "device_step",
        /// On the device: culling and depth order.
        DeviceOrder = "device_order",
        /// On the device: the shadow map of the sun.
        DeviceShadow = "device_shadow",
        /// On the device: filling pixels.
        DeviceRaster = "device_raster",
        /// On the device: bloom, tone curve, eight bits.
        DeviceResolve = "device_resolve",
    }
}

named_list! {
    /// An exact counter.
    Counter COUNTER_NAMES {
        /// Fixed steps taken.
        Steps = "steps",
        /// Steps dropped by the cap.
        StepsDropped = "steps_dropped",
        /// Elements alive after the last step.
        Alive = "alive",
        /// Elements emitted.
        Emitted = "emitted",
        /// Elements that were due but found no capacity.
        Refused = "refused",
        /// Elements that reached the end of their life, or were picked up.
        Retired = "retired",
        /// Blades that swung, each once a step.
        Swung = "swung",
        /// Blades that leant with the wind without dynamics.
        Leant = "leant",
        /// Blades stepped one by one because something presses or pressed them.
        Pressed = "pressed",
        /// Elements whose growth was stepped.
        Grown = "grown",
        /// Elements that were harvested.
        Harvested = "harvested",
        /// Squares that were not stepped because they are out of view; summed over steps.
        SquaresAsleep = "squares_asleep",
        /// Squares that were not stepped because they are drawn as groups; summed over steps.
        SquaresGrouped = "squares_grouped",
        /// Event records.
        Events = "events",
        /// Elements at rest that were skipped; summed over steps.
        SetAside = "set_aside",
        /// Elements that touched an obstacle, each once a step.
        Hits = "hits",
        /// Elements that a collector picked up.
        Picked = "picked",
        /// Elements that hunters caught.
        Caught = "caught",
        /// Pairs of elements whose distance was tested.
        PairsTested = "pairs_tested",
        /// Pairs of elements near each other.
        PairsNear = "pairs_near",
        /// Elements in crowds, of which evenly spaced neighbours stand for the rest; summed over steps.
        Crowded = "crowded",
        /// Elements of the fullest cell of neighbours.
        FullestCell = "fullest_cell",
        /// Cells of neighbours with any element.
        CellsUsed = "cells_used",
        /// Bytes held for neighbours.
        NeighbourBytes = "neighbour_bytes",
        /// Order of a flock in thousandths: 1000 if all go one way. This and the next two are levels, of the last flock of more than one element.
        OrderPermille = "order_permille",
        /// How much a flock circles its middle, in thousandths.
        MillingPermille = "milling_permille",
        /// Mean distance to the nearest other of a flock, in micrometres.
        NearestMicrometres = "nearest_micrometres",
        /// Groups of a flock, joined by steps of its radius of cohesion. Counted when asked for: by profiles, between the frames that are timed.
        Groups = "groups",
        /// Units at their goal. This and the next three are levels, of the last crowd.
        Arrived = "arrived",
        /// Units of a crowd slower than a fifth of their preferred speed.
        Waiting = "waiting",
        /// Pairs of units that overlap.
        Overlaps = "overlaps",
        /// Mean ratio of the speed of a crowd's units along their preferred velocity to the preferred speed, in thousandths.
        ProgressPermille = "progress_permille",
        /// Batches handed to the backend, each one draw call.
        DrawCalls = "draw_calls",
        /// Batches that began because the mesh or shape differs.
        BreaksMesh = "breaks_mesh",
        /// Batches that began because the look differs.
        BreaksLook = "breaks_look",
        /// Batches that began because the page of the atlas differs.
        BreaksAtlas = "breaks_atlas",
        /// Batches that began because the layer differs, or transparent drawing begins.
        BreaksLayer = "breaks_layer",
        /// Batches that began because the previous one was full.
        BreaksCapacity = "breaks_capacity",
        /// Instances in all batches.
        Instances = "instances",
        /// Ranges of elements in the batches: draw calls where ranges cannot be merged.
        Stretches = "stretches",
        /// Vertices processed by the backend.
        Vertices = "vertices",
        /// Triangles of the instances that were not culled.
        Triangles = "triangles",
        /// Instances outside the picture or not visible yet.
        Culled = "culled",
        /// Elements culled by chunk.
        CulledInChunks = "culled_in_chunks",
        /// Instances left out because they are far or small.
        Thinned = "thinned",
        /// Instances drawn at coarse detail.
        Coarse = "coarse",
        /// Meshes drawn as spots, as they are hardly larger than a pixel.
        Tiny = "tiny",
        /// Chunks of instances that kept their projected records from the frame before.
        ChunksKept = "chunks_kept",
        /// Triangles and ribbons in the shadow map of the sun.
        ShadowRecords = "shadow_records",
        /// Tiles of the shadow map that were kept from an earlier frame.
        ShadowKept = "shadow_kept",
        /// Elements sorted by depth for the list; sorting within tiles does not count.
        Sorted = "sorted",
        /// Records in tile bins; more than instances, because some touch several tiles.
        BinRecords = "bin_records",
        /// Records of discs, rectangles, triangles and pieces of ribbons, before they are put into bins.
        Records = "records",
        /// Pixels that records cover and nothing solid hides when they are drawn, overlaps counted each time: of solid shapes four samples are one, of
        /// discs their area counts, hidden or not.
        PixelsTouched = "pixels_touched",
        /// Samples of solid shapes that passed the depth test when they were drawn.
        Samples = "samples",
        /// Pixels in which the colour of a visible triangle was worked out.
        PixelsShaded = "pixels_shaded",
        /// Frames whose sky and ground were reused.
        BackdropHits = "backdrop_hits",
        /// Frames whose sky and ground were drawn again.
        BackdropMisses = "backdrop_misses",
        /// Groups drawn from a cached picture.
        GroupHits = "group_hits",
        /// Groups whose picture was rendered.
        GroupMisses = "group_misses",
        /// Bytes of cached pictures of groups.
        GroupBytes = "group_bytes",
        /// Bytes written to a device.
        UploadedBytes = "uploaded_bytes",
        /// Bytes of elements among them.
        UploadedElementBytes = "uploaded_element_bytes",
        /// Bytes read back from a device.
        DownloadedBytes = "downloaded_bytes",
        /// Draws recorded for a device.
        DeviceDraws = "device_draws",
        /// Compute dispatches.
        Dispatches = "dispatches",
        /// Render and compute passes.
        Passes = "passes",
        /// Changes of pipeline.
        PipelineChanges = "pipeline_changes",
        /// Changes of bind group.
        BindChanges = "bind_changes",
        /// Submissions to a device's queue.
        Submits = "submits",
        /// Age of the latest readback of a device, in frames.
        ReadbackAge = "readback_age",
        /// Bytes held on a device.
        DeviceBytes = "device_bytes",
        /// Percent of detail that a frame budget leaves; this and the next two are 0 without a frame budget.
        DetailPercent = "detail_percent",
        /// Percent of elements that a frame budget has drawn.
        DensityPercent = "density_percent",
        /// Percent of the steps a second that a frame budget leaves.
        RatePercent = "rate_percent",
        /// Percent of the picture's quality that a frame budget leaves: 100, or less on the way to a draft at 50.
        PicturePercent = "picture_percent",
        /// Bytes held for elements: columns or records, and their scratch.
        ElementBytes = "element_bytes",
        /// Bytes held for drawing: draw list, bins, tiles.
        DrawBytes = "draw_bytes",
    }
}

impl Stage {
    /// Whether the stage runs on a device, in parallel with stages of the CPU. Its time is no part of the wall time of the frame and arrives a
    /// frame or two late.
    pub const fn on_device(self) -> bool {
        matches!(
            self,
            Self::DeviceStep
                | Self::DeviceOrder
                | Self::DeviceShadow
                | Self::DeviceRaster
                | Self::DeviceResolve
        )
    }
}

const STAGES: usize = Stage::MOST;
const COUNTERS: usize = Counter::MOST;

/// Times and counters of one frame.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Frame {
    total: Duration,
    stages: [Duration; STAGES],
    counters: [u64; COUNTERS],
    moved: [u64; STAGES],
}

impl Default for Frame {
    fn default() -> Self {
        Self {
            total: Duration::ZERO,
            stages: [Duration::ZERO; STAGES],
            counters: [0; COUNTERS],
            moved: [0; STAGES],
        }
    }
}

impl Frame {
    /// A frame that was measured elsewhere, without stages and counters.
    pub fn new(total: Duration) -> Self {
        Self { total, ..Self::default() }
    }

    /// Sets the time of a stage.
    pub fn with_stage(mut self, stage: Stage, time: Duration) -> Self {
        self.stages[stage.index()] = time;
        self
    }

    /// Sets the value of a counter.
    pub fn with_count(mut self, counter: Counter, count: u64) -> Self {
        self.counters[counter.index()] = count;
        self
    }

    /// Sets the number of bytes that a stage moved.
    pub fn with_moved(mut self, stage: Stage, bytes: u64) -> Self {
        self.moved[stage.index()] = bytes;
        self
    }

    /// Wall time from begin to end.
    pub fn total(&self) -> Duration {
        self.total
    }

    /// Wall time of a stage.
    pub fn stage(&self, stage: Stage) -> Duration {
        self.stages[stage.index()]
    }

    /// Wall time outside all stages of the CPU.
    pub fn other(&self) -> Duration {
        let stages = Stage::all().filter(|stage| !stage.on_device());
        self.total.saturating_sub(stages.map(|stage| self.stage(stage)).sum())
    }

    /// Bytes of columns, keys, records and pixels that a stage read and wrote, in whatever memory; 0 if the stage does not report them.
    pub fn moved(&self, stage: Stage) -> u64 {
        self.moved[stage.index()]
    }

    /// Value of a counter.
    pub fn count(&self, counter: Counter) -> u64 {
        self.counters[counter.index()]
    }
}

/// Records the frame in progress and keeps the last finished frame.
///
/// ```
/// use frolic_core::{Counter, Meter, Stage};
/// let mut meter = Meter::new();
/// meter.begin_frame();
/// let started = meter.start(Stage::Integrate);
/// // .. a stage of your own loop ..
/// meter.stop(started);
/// meter.add(Counter::Instances, 3);
/// let frame = meter.end_frame();
/// assert_eq!(frame.count(Counter::Instances), 3);
/// assert!(frame.stage(Stage::Integrate) <= frame.total());
/// ```
#[derive(Debug, Clone)]
pub struct Meter {
    began: Instant,
    current: Frame,
    last: Frame,
    #[cfg(feature = "tracing")]
    span: tracing::Span,
}

/// Whether recording is off, as a bench compares with.
const UNMETERED: bool = cfg!(frolic_unmetered);

/// A stage in progress. [`Meter::stop`] ends it; a dropped stage is not counted.
#[derive(Debug)]
#[must_use = "a stage that is not stopped is not counted"]
pub struct Started {
    stage: Stage,
    at: Instant,
    #[cfg(feature = "tracing")]
    _span: tracing::span::EnteredSpan,
}

impl Default for Meter {
    fn default() -> Self {
        Self::new()
    }
}

impl Meter {
    /// A meter with nothing recorded.
    pub fn new() -> Self {
        Self {
            began: Instant::now(),
            current: Frame::default(),
            last: Frame::default(),
            #[cfg(feature = "tracing")]
            span: tracing::Span::none(),
        }
    }

    /// Starts a frame and discards an unfinished one.
    pub fn begin_frame(&mut self) {
        self.current = Frame::default();
        #[cfg(feature = "tracing")]
        {
            self.span = tracing::debug_span!(target: "frolic", "frame");
        }
        self.began = Instant::now();
    }

    /// Ends the frame and returns it.
    pub fn end_frame(&mut self) -> Frame {
        self.current.total = self.began.elapsed();
        trace::frame(self.began, self.current.total);
        #[cfg(feature = "tracing")]
        {
            let alive = self.current.count(Counter::Alive);
            let draw_calls = self.current.count(Counter::DrawCalls);
            tracing::debug!(target: "frolic", parent: &self.span, alive, draw_calls);
            self.span = tracing::Span::none();
        }
        self.last = self.current;
        self.current = Frame::default();
        self.last
    }

    /// The last finished frame.
    pub fn last(&self) -> &Frame {
        &self.last
    }

    /// Starts a stage; pass the result to [`Meter::stop`].
    #[inline]
    pub fn start(&self, stage: Stage) -> Started {
        Started {
            stage,
            #[cfg(feature = "tracing")]
            _span: tracing::trace_span!(target: "frolic", parent: &self.span, "stage", name = stage.name())
                .entered(),
            at: if UNMETERED { self.began } else { Instant::now() },
        }
    }

    /// Ends a stage and adds its time.
    #[inline]
    #[expect(clippy::needless_pass_by_value, reason = "a stage ends once")]
    pub fn stop(&mut self, started: Started) {
        if UNMETERED {
            return;
        }
        let took = started.at.elapsed();
        self.current.stages[started.stage.index()] += took;
        trace::stage(started.stage, started.at, took);
    }

    /// Adds bytes that a stage moved: see [`Frame::moved`].
    #[inline]
    pub fn moved(&mut self, stage: Stage, bytes: u64) {
        if !UNMETERED {
            self.current.moved[stage.index()] += bytes;
        }
    }

    /// Adds a time that was measured elsewhere.
    #[inline]
    pub fn add_time(&mut self, stage: Stage, time: Duration) {
        self.current.stages[stage.index()] += time;
    }

    /// Counts a part of the time of stage `from` for `to` instead, whose work is done within it. No more than it has.
    pub fn move_time(&mut self, from: Stage, to: Stage, time: Duration) {
        let time = time.min(self.current.stages[from.index()]);
        self.current.stages[from.index()] -= time;
        self.current.stages[to.index()] += time;
    }

    /// Adds to a counter.
    #[inline]
    pub fn add(&mut self, counter: Counter, count: u64) {
        if !UNMETERED {
            self.current.counters[counter.index()] += count;
        }
    }

    /// Sets a gauge: a counter that is a level, such as a temperature or a queue's length, and not a sum.
    #[inline]
    pub fn set(&mut self, gauge: Counter, level: u64) {
        if !UNMETERED {
            self.current.counters[gauge.index()] = level;
        }
    }

    /// Resets a gauge before the next step reports it.
    pub fn forget(&mut self, counter: Counter) {
        self.current.counters[counter.index()] = 0;
    }
}

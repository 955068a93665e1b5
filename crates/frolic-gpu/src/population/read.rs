//! Reading back from the device: counters without waiting, elements with a stall.

use crate::device::error::GpuError;
use crate::device::{DeviceCounters, Gpu, Recorder};
use crate::shared::step::{
    COLLECTED, COLLECTED_BY, EMITTED, EVENTS_COUNTED, HITS, LIVE, POPULATION_WORDS, REFUSED, RETIRED,
    SHARD_WORDS, STEPS, TESTED_APART,
};
use frolic_core::{BodyRow, Counter, Meter};
use wgpu::BufferUsages;

use super::{DeviceStatistics, GpuParticles};

impl GpuParticles {
    /// Encodes the copy of the counters for a readback. Call it at the end of a frame's commands.
    pub fn record(&mut self, recorder: &mut Recorder) {
        let (encoder, _) = recorder.parts();
        self.copy_counters_in(encoder);
    }

    pub(crate) fn copy_counters_in(&mut self, encoder: &mut wgpu::CommandEncoder) {
        self.frame += 1;
        self.readback.record(encoder, &self.counts, self.frame);
    }

    /// Requests the readback. Call it after the submission, before steps of the next frame.
    pub fn request_readback(&mut self) {
        self.readback.request_readback();
    }

    /// Reads back counters that have arrived, without waiting, and adds the new counts to the meter.
    pub fn read_back(&mut self, recorder: &mut Recorder, meter: &mut Meter) {
        self.read_back_in(&mut recorder.counters, meter);
    }

    pub(crate) fn read_back_in(&mut self, counters: &mut DeviceCounters, meter: &mut Meter) {
        self.gpu.poll();
        let (raw, statistics, read_at) = (&mut self.raw, &mut self.statistics, &mut self.read_at);
        let (shards, before) = (self.shards.len(), *statistics);
        self.readback.read_back(counters, |frame, words| {
            statistics.pairs_tested += wide_since(raw, words, TESTED_APART);
            statistics.pairs_near += wide_since(raw, words, TESTED_APART + 2);
            let pairs = TESTED_APART as usize..(TESTED_APART + 4) as usize;
            raw[pairs.clone()].copy_from_slice(&words[pairs]);
            let mut new = |word: u32| {
                let (now, raw) = (words[word as usize], &mut raw[word as usize]);
                u64::from(now.wrapping_sub(std::mem::replace(raw, now)))
            };
            statistics.emitted += new(EMITTED);
            statistics.refused += new(REFUSED);
            statistics.retired += new(RETIRED);
            statistics.hits += new(HITS);
            statistics.picked += new(COLLECTED);
            statistics.steps += new(STEPS);
            statistics.happened += new(EVENTS_COUNTED);
            statistics.asleep += new(TESTED_APART + 4);
            for (nth, sum) in (COLLECTED_BY..).zip(&mut statistics.caught) {
                *sum += new(nth);
            }
            let parity = (statistics.steps % 2) as usize;
            let live =
                |nth: usize| words[(POPULATION_WORDS + LIVE) as usize + nth * SHARD_WORDS as usize + parity];
            statistics.alive = (0..shards).map(|nth| u64::from(live(nth))).sum();
            *read_at = frame;
        });
        meter.add(Counter::Emitted, statistics.emitted - before.emitted);
        meter.add(Counter::Refused, statistics.refused - before.refused);
        meter.add(Counter::Retired, statistics.retired - before.retired);
        meter.add(Counter::Hits, statistics.hits - before.hits);
        meter.add(Counter::Picked, statistics.picked - before.picked);
        meter.add(Counter::Events, statistics.happened - before.happened);
        meter.add(Counter::PairsTested, statistics.pairs_tested - before.pairs_tested);
        meter.add(Counter::PairsNear, statistics.pairs_near - before.pairs_near);
        meter.add(Counter::SetAside, statistics.asleep - before.asleep);
    }

    /// Waits for the latest counters. This stalls; use it at the end of a run.
    ///
    /// # Errors
    /// When the device was lost.
    pub fn wait(&mut self, recorder: &mut Recorder, meter: &mut Meter) -> Result<DeviceStatistics, GpuError> {
        recorder.submit();
        self.request_readback();
        self.readback.wait(&self.gpu)?;
        self.read_back(recorder, meter);
        self.record(recorder);
        recorder.submit();
        self.request_readback();
        self.readback.wait(&self.gpu)?;
        self.read_back(recorder, meter);
        recorder.counters.report(meter);
        Ok(self.statistics)
    }

    /// Adds the elements that each collector has picked up between the previous call and the latest readback. Further collectors are left out.
    pub fn take_caught(&mut self, into: &mut [u64]) {
        for ((sum, now), taken) in into.iter_mut().zip(self.statistics.caught).zip(&mut self.taken_of) {
            *sum += now - std::mem::replace(taken, now);
        }
    }

    /// Reads the elements back. Shards are in no particular order. This stalls; it is for tests and for saving.
    ///
    /// # Errors
    /// When the device was lost.
    pub fn read(&mut self, recorder: &mut Recorder) -> Result<Vec<BodyRow>, GpuError> {
        let alive = self.wait(recorder, &mut Meter::new())?;
        let parity = (alive.steps % 2) as usize;
        let counts = read_words(&self.gpu, &self.counts, self.counts.size())?;
        let mut rows = Vec::with_capacity(alive.alive as usize);
        for shard in &self.shards {
            let live = counts[shard.counts as usize + parity] as usize;
            if live == 0 {
                continue;
            }
            let [places, motions, ages] = &shard.columns[self.now];
            let places = read_words(&self.gpu, places, live as u64 * 16)?;
            let motions = read_words(&self.gpu, motions, live as u64 * 16)?;
            let ages = read_words(&self.gpu, ages, live as u64 * 8)?;
            let float = f32::from_bits;
            for ((place, motion), age) in
                places.chunks_exact(4).zip(motions.chunks_exact(4)).zip(ages.chunks_exact(2)).take(live)
            {
                rows.push(BodyRow {
                    px: float(place[0]),
                    py: float(place[1]),
                    pz: float(place[2]),
                    vx: float(motion[0]),
                    vy: float(motion[1]),
                    vz: float(motion[2]),
                    age: float(age[0]),
                    life: float(age[1]),
                    size: float(place[3]),
                    id: motion[3],
                    key: motion[3],
                });
            }
        }
        Ok(rows)
    }
}

/// What a counter in two words, the lower first, has grown by.
pub(crate) fn wide_since(before: &[u32], now: &[u32], word: u32) -> u64 {
    let at = word as usize;
    let join = |words: &[u32]| u64::from(words[at]) | u64::from(words[at + 1]) << 32;
    join(now).wrapping_sub(join(before))
}

/// Reads words back. This stalls.
pub(crate) fn read_words(gpu: &Gpu, from: &wgpu::Buffer, bytes: u64) -> Result<Vec<u32>, GpuError> {
    let to = gpu.buffer("read", bytes, BufferUsages::MAP_READ | BufferUsages::COPY_DST);
    let mut encoder = gpu.device().create_command_encoder(&wgpu::CommandEncoderDescriptor::default());
    encoder.copy_buffer_to_buffer(from, 0, &to, 0, bytes);
    gpu.queue().submit([encoder.finish()]);
    to.map_async(wgpu::MapMode::Read, .., |_| {});
    gpu.wait()?;
    let view = to.get_mapped_range(..).map_err(|error| GpuError::Lost(error.to_string()))?;
    Ok(bytemuck::cast_slice(&view[..bytes as usize]).to_vec())
}

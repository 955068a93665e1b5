//! Readback without a stall: a ring of small buffers, each copied to in one frame and read one or two frames later.
//! If all buffers are in flight, a frame is skipped; counters are totals, so nothing is lost.

use std::sync::Arc;
use std::sync::atomic::{AtomicU8, Ordering};

use wgpu::BufferUsages;

use crate::device::counters::DeviceCounters;
use crate::device::error::GpuError;
use crate::device::gpu::Gpu;

/// Buffers of a ring: two frames in flight, and one to write.
const SLOTS: usize = 3;

#[derive(Debug)]
struct Slot {
    buffer: wgpu::Buffer,
    state: State,
}

#[derive(Debug)]
enum State {
    Free,
    /// The copy for this frame is encoded.
    Recorded(u64),
    /// Mapping was requested for this frame; the answer is stored here.
    Asked(u64, Arc<AtomicU8>),
}

const READY: u8 = 1;
const FAILED: u8 = 2;

/// A ring of buffers for the readback of words.
#[derive(Debug)]
pub(crate) struct Readback {
    slots: Vec<Slot>,
    bytes: u64,
}

impl Readback {
    /// A ring for this number of words.
    pub(crate) fn new(gpu: &Gpu, label: &str, words: usize) -> Self {
        let bytes = words as u64 * 4;
        let usage = BufferUsages::MAP_READ | BufferUsages::COPY_DST;
        let slots = (0..SLOTS)
            .map(|_| Slot { buffer: gpu.buffer(label, bytes, usage), state: State::Free })
            .collect();
        Self { slots, bytes }
    }

    /// Encodes a copy of `from`. Returns `false` if all buffers are in flight.
    pub(crate) fn record(
        &mut self,
        encoder: &mut wgpu::CommandEncoder,
        from: &wgpu::Buffer,
        frame: u64,
    ) -> bool {
        let Some(slot) = self.slots.iter_mut().find(|slot| matches!(slot.state, State::Free)) else {
            return false;
        };
        encoder.copy_buffer_to_buffer(from, 0, &slot.buffer, 0, self.bytes);
        slot.state = State::Recorded(frame);
        true
    }

    /// Requests the mapping. Call it after the submission.
    pub(crate) fn request_readback(&mut self) {
        for slot in &mut self.slots {
            if let State::Recorded(frame) = slot.state {
                let answer = Arc::new(AtomicU8::new(0));
                let told = Arc::clone(&answer);
                slot.buffer.map_async(wgpu::MapMode::Read, .., move |result| {
                    told.store(if result.is_ok() { READY } else { FAILED }, Ordering::Release);
                });
                slot.state = State::Asked(frame, answer);
            }
        }
    }

    /// Waits until all requested buffers are mapped. The device may be idle before, as another thread may be polling it.
    ///
    /// # Errors
    /// When the device was lost.
    pub(crate) fn wait(&self, gpu: &Gpu) -> Result<(), GpuError> {
        let open = |slot: &Slot| matches!(&slot.state, State::Asked(_, answer) if answer.load(Ordering::Acquire) == 0);
        gpu.wait()?;
        while self.slots.iter().any(open) {
            std::thread::yield_now();
            gpu.wait()?;
        }
        Ok(())
    }

    /// Passes the words that have arrived to a closure with the number of their frame, oldest first. Never waits.
    pub(crate) fn read_back(
        &mut self,
        counters: &mut DeviceCounters,
        mut read_back: impl FnMut(u64, &[u32]),
    ) {
        let mut ready: Vec<&mut Slot> = Vec::new();
        for slot in &mut self.slots {
            match &slot.state {
                State::Asked(_, answer) => match answer.load(Ordering::Acquire) {
                    READY => ready.push(slot),
                    // A lost device maps nothing; its checks report it.
                    FAILED => slot.state = State::Free,
                    _ => {}
                },
                _ => continue,
            }
        }
        ready.sort_by_key(|slot| if let State::Asked(frame, _) = slot.state { frame } else { 0 });
        for slot in ready {
            if let (State::Asked(frame, _), Ok(view)) = (&slot.state, slot.buffer.get_mapped_range(..)) {
                let words: &[u32] = bytemuck::cast_slice(&view[..self.bytes as usize]);
                read_back(*frame, words);
                counters.downloaded += self.bytes;
            }
            slot.buffer.unmap();
            slot.state = State::Free;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::device::recorder::Recorder;

    /// If all buffers are in flight a frame is skipped. What arrives is in order, and the newest arrives in the end.
    #[test]
    fn a_full_readback_ring_skips_and_never_waits() {
        let gpu = Gpu::shared().unwrap();
        let from = gpu.buffer("from", 256, BufferUsages::COPY_SRC | BufferUsages::COPY_DST);
        let (mut readback, mut recorder) = (Readback::new(&gpu, "test", 4), Recorder::new(&gpu));
        let mut read_at = Vec::new();
        let mut kept = Vec::new();
        for frame in 1..=9u64 {
            gpu.queue().write_buffer(&from, 0, bytemuck::cast_slice(&[frame as u32; 4]));
            // Only every fourth frame reads, so the ring of three fills up.
            let recorded = readback.record(recorder.parts().0, &from, frame);
            assert_eq!(recorded, (frame - 1) % 4 != 3, "frame {frame}");
            kept.extend(recorded.then_some(frame));
            recorder.submit();
            readback.request_readback();
            if frame % 4 == 0 {
                readback.wait(&gpu).unwrap();
                readback
                    .read_back(&mut recorder.counters, |frame, words| read_at.push((frame, words.to_vec())));
            }
        }
        readback.wait(&gpu).unwrap();
        readback.read_back(&mut recorder.counters, |frame, words| read_at.push((frame, words.to_vec())));
        let frames: Vec<u64> = read_at.iter().map(|(frame, _)| *frame).collect();
        assert_eq!(frames, kept);
        for (frame, words) in &read_at {
            assert_eq!(words[..], [*frame as u32; 4]);
        }
        assert_eq!(recorder.counters.downloaded, read_at.len() as u64 * 16);
    }
}

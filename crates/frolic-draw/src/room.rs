//! Buffers that are kept from frame to frame.

/// Makes a buffer at least `len` long: a quarter longer than asked for when it has to grow, so that a count that varies from
/// frame to frame soon finds room enough. It never shrinks; what is beyond `len` is left over from other frames.
pub(crate) fn at_least<T: Clone + Default>(buffer: &mut Vec<T>, len: usize) {
    if buffer.len() < len {
        buffer.resize(len + len / 4, T::default());
    }
}

/// Room for `more` beyond what is in a buffer, growing as [`at_least`].
pub(crate) fn for_more<T>(buffer: &mut Vec<T>, more: usize) {
    let needed = buffer.len() + more;
    if needed > buffer.capacity() {
        buffer.reserve_exact(more + needed / 4);
    }
}

/// Room that a tile is likely to need at most for its part of `count` records, made at once as any tile may come to any thread.
pub(crate) fn likely(count: usize) -> usize {
    if count > 0 { count.next_power_of_two().min(1 << 16) } else { 0 }
}

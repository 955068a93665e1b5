// Bindings of a step: its uniform, the counters, and the columns and calls that it writes.

@group(0) @binding(0) var<uniform> step: Step;
@group(0) @binding(1) var<storage, read_write> counters: array<atomic<u32>>;
// Sums of groups of elements, then the records of events (event_records.wgsl).
@group(0) @binding(2) var<storage, read_write> blocks: array<u32>;
@group(0) @binding(6) var<storage, read_write> next_places: array<vec4<u32>>;
@group(0) @binding(7) var<storage, read_write> next_motions: array<vec4<u32>>;
@group(0) @binding(8) var<storage, read_write> next_ages: array<vec2<f32>>;
@group(0) @binding(9) var<storage, read_write> calls: array<u32>;

// Adds to a number in two words.
fn add_wide(word: u32, value: u32) {
    let before = atomicAdd(&counters[word], value);
    if before + value < before {
        atomicAdd(&counters[word + 1u], 1u);
    }
}

// Writes the indirect calls that follow: the next step, the draw of all live elements, and their trails.
fn write_calls(live: u32) {
    let groups = (live + GROUP - 1u) / GROUP;
    write_dispatch(CALL_STEP, live);
    calls[CALL_DRAW] = step.span;
    calls[CALL_DRAW + 1u] = live;
    calls[CALL_DRAW + 2u] = 0u;
    calls[CALL_DRAW + 3u] = 0u;
    write_dispatch(CALL_TRAILS, live * step.trail_places);
}

fn write_dispatch(at: u32, items: u32) {
    let groups = (items + GROUP - 1u) / GROUP;
    calls[at] = min(groups, MOST_GROUPS);
    calls[at + 1u] = (groups + MOST_GROUPS - 1u) / MOST_GROUPS;
    calls[at + 2u] = 1u;
}

// Index into `blocks` that holds the former index of an element.
fn was_at(nth: u32) -> u32 {
    return (step.capacity + GROUP - 1u) / GROUP + nth;
}

// Counter of live elements in the state that this step writes.
fn next_live() -> u32 {
    return step.counters + LIVE + 1u - step.parity;
}

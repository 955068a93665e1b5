// Records of events: frolic-core/src/world/events.rs. An event has a range of `blocks`: elements it starts and records, both by groups;
// sums; then the records in order.

fn sums_of(e: Event) -> u32 {
    return e.range + e.groups * 2u;
}

fn record_at(e: Event, nth: u32) -> u32 {
    return sums_of(e) + SUM_WORDS + nth * RECORD_WORDS;
}

// Number of elements that an event of an element starts.
fn started_by(e: Event, id: u32) -> u32 {
    let random = unit(hash3(vec3(e.seed, id, e.number)));
    if e.starts == 0u || random.x >= e.chance {
        return 0u;
    }
    let wanted = e.count_min + (e.count_max - e.count_min) * random.y;
    return u32(floor(wanted)) + select(0u, 1u, wanted - floor(wanted) > random.z);
}

// Rank of an element among the records, and among the started elements.
struct Standing {
    noted: Rank,
    started: Rank,
}

var<workgroup> any_starts: u32;

// Requires uniform control flow.
fn standing(lane: u32, started: u32) -> Standing {
    var s: Standing;
    s.noted = rank_in_group(lane, started > 0u);
    if lane == 0u {
        any_starts = s.noted.all;
    }
    if workgroupUniformLoad(&any_starts) > 0u {
        s.started = sum_in_group(lane, started);
    }
    return s;
}

// Writes the sums of a group.
fn note_group(e: Event, lane: u32, group: u32, s: Standing) {
    if lane == 0u && group < e.groups {
        blocks[e.range + group] = s.started.all;
        blocks[e.range + e.groups + group] = s.noted.all;
    }
}

// Adds up the groups of an event. For one thread group, in uniform control flow.
fn sum_event(e: Event, lane: u32, groups: u32) {
    let wanted = add_blocks(lane, e.range, groups);
    let noted = add_blocks(lane, e.range + e.groups, groups);
    if lane == 0u {
        blocks[sums_of(e) + WANTED] = wanted;
        blocks[sums_of(e) + RECORDED] = noted;
    }
}

// Writes the record of an element, after the groups were added up.
fn note(e: Event, group: u32, s: Standing, what: Record) {
    let nth = blocks[e.range + e.groups + group] + s.noted.before;
    if nth >= e.room {
        return;
    }
    var record = what;
    record.before = saturated(blocks[e.range + group], s.started.before);
    write_record(record_at(e, nth), record);
}

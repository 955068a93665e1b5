// How many elements of a population on the device there are.

// Counters of the last step.
@group(3) @binding(3) var<storage, read> counters: array<u32>;

fn element_count() -> u32 {
    return counters[draw.count];
}

// Sprites are never on the device.
fn sprite_at(element: u32) -> PackedSprite {
    var none: PackedSprite;
    return none;
}

// Sorts elements by cell. Three dispatches and a sort (sort.wgsl):
//
//   clear_cells    no cell has elements
//   list_elements  the cell of each element is its key; those that are gone come last
//   (sort)
//   note_cells     where the elements of each cell begin and end

@group(0) @binding(0) var<uniform> grid: CellGrid;
@group(0) @binding(1) var<storage, read> counters: array<u32>;
@group(0) @binding(2) var<storage, read> places: array<vec4<u32>>;
@group(0) @binding(3) var<storage, read> gone: array<u32>;
@group(0) @binding(4) var<storage, read_write> keys: array<u32>;
@group(0) @binding(5) var<storage, read_write> list: array<u32>;
@group(0) @binding(6) var<storage, read_write> cells: array<vec2<u32>>;
// A dispatch of the sort, the number of elements, and of those that are not gone.
@group(0) @binding(7) var<storage, read_write> calls: array<u32>;

fn thread(group: vec3<u32>, groups: vec3<u32>, lane: u32) -> u32 {
    return (group.x + group.y * groups.x) * GROUP + lane;
}

@compute @workgroup_size(256)
fn clear_cells(
    @builtin(workgroup_id) group: vec3<u32>,
    @builtin(num_workgroups) groups: vec3<u32>,
    @builtin(local_invocation_index) lane: u32,
) {
    let nth = thread(group, groups, lane);
    if nth < grid.count {
        cells[nth] = vec2(0u);
    }
    if nth == 0u {
        let live = counters[grid.live];
        calls[LIST_SORT] = (live + SORT_TILE - 1u) / SORT_TILE;
        calls[LIST_SORT + 1u] = 1u;
        calls[LIST_SORT + 2u] = 1u;
        calls[LIST_COUNT] = live;
        calls[LIST_LIVING] = 0u;
    }
}

@compute @workgroup_size(256)
fn list_elements(
    @builtin(workgroup_id) group: vec3<u32>,
    @builtin(num_workgroups) groups: vec3<u32>,
    @builtin(local_invocation_index) lane: u32,
) {
    let nth = thread(group, groups, lane);
    if nth >= counters[grid.live] {
        return;
    }
    let at = bitcast<vec3<f32>>(places[nth].xyz);
    keys[nth] = select(cell_number(grid, cell_at(grid, at)), grid.count, gone[nth] != 0u);
    list[nth] = nth;
}

@compute @workgroup_size(256)
fn note_cells(
    @builtin(workgroup_id) group: vec3<u32>,
    @builtin(num_workgroups) groups: vec3<u32>,
    @builtin(local_invocation_index) lane: u32,
) {
    let nth = thread(group, groups, lane);
    let live = counters[grid.live];
    if nth >= live || keys[nth] >= grid.count {
        return;
    }
    let key = keys[nth];
    if nth == 0u || keys[max(nth, 1u) - 1u] != key {
        cells[key].x = nth;
    }
    let is_last = nth + 1u == live;
    let next = keys[min(nth + 1u, live - 1u)];
    if is_last || next != key {
        cells[key].y = nth + 1u;
        if is_last || next >= grid.count {
            calls[LIST_LIVING] = nth + 1u;
        }
    }
}

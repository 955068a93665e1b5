// Cells of a grid that begins again at its sides: `DeviceCells` of frolic-core/src/backend/flock.rs.

fn cell_at(grid: CellGrid, place: vec3<f32>) -> vec3<u32> {
    let wide = vec3<f32>(grid.cells);
    let whole = floor((place - grid.corner) * grid.per_cell);
    let turned = whole - floor(whole / wide) * wide;
    return vec3<u32>(max(turned, vec3(0.0))) % grid.cells;
}

fn cell_number(grid: CellGrid, cell: vec3<u32>) -> u32 {
    return (cell.z * grid.cells.y + cell.y) * grid.cells.x + cell.x;
}

// Number of cells around a place, with its own.
fn cells_around(grid: CellGrid) -> u32 {
    let wide = min(grid.cells, vec3(3u));
    return wide.x * wide.y * wide.z;
}

// One of the cells around a cell, x first.
fn around(grid: CellGrid, cell: vec3<u32>, nth: u32) -> u32 {
    let wide = min(grid.cells, vec3(3u));
    let step = vec3(nth % wide.x, nth / wide.x % wide.y, nth / (wide.x * wide.y));
    // An axis of one cell has no others.
    let before = select(cell, cell + grid.cells - 1u, grid.cells > vec3(1u));
    return cell_number(grid, (before + step) % grid.cells);
}

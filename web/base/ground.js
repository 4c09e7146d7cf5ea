// Where cells lie. Places are (col, row) in cells from the upper left corner of the frame, so that the centre of the
// first cell is (0.5, 0.5); `facts` is the frame of a page: cell sizes on the ground and longitudes at nodes.

export class Ground {
  constructor(facts) {
    Object.assign(this, {cols: facts.cols, rows: facts.rows, crs: facts.crs, unit: facts.unit, degrees: facts.degrees});
    this.facts = facts;
  }

  // Bilinear between nodes that stand evenly from corner to corner.
  node(list, col, row) {
    const n = this.facts.nodes - 1;
    const x = Math.min(Math.max(col / this.cols, 0), 1) * n;
    const y = Math.min(Math.max(row / this.rows, 0), 1) * n;
    const c = Math.min(Math.floor(x), n - 1);
    const r = Math.min(Math.floor(y), n - 1);
    const u = x - c;
    const v = y - r;
    const at = r * (n + 1) + c;
    return (1 - v) * ((1 - u) * list[at] + u * list[at + 1]) + v * ((1 - u) * list[at + n + 1] + u * list[at + n + 2]);
  }
  // Metres on the ground of one column and of one row.
  scale(col, row) {
    return {x: this.node(this.facts.ground.x, col, row), y: this.node(this.facts.ground.y, col, row)};
  }
  place(col, row) {
    return {x: this.facts.west + col * this.facts.cell[0], y: this.facts.north - row * this.facts.cell[1]};
  }
  cell(x, y) {
    return {col: (x - this.facts.west) / this.facts.cell[0], row: (this.facts.north - y) / this.facts.cell[1]};
  }
  // Degrees; null where nobody knows where the frame lies. Evenly between nodes: right to a few decimetres in frames of a
  // hundred kilometres.
  globe(col, row) {
    if (this.degrees) {
      const p = this.place(col, row);
      return {lon: p.x, lat: p.y};
    }
    if (!this.facts.globe) return null;
    const lon = this.node(this.facts.globe.lon, col, row);
    return {lon: lon - 360 * Math.round(lon / 360), lat: this.node(this.facts.globe.lat, col, row)};
  }
  // Metres, by the scale at the middle, as sections are measured.
  distance(a, b) {
    const s = this.scale((a.col + b.col) / 2, (a.row + b.row) / 2);
    return Math.hypot((b.col - a.col) * s.x, (b.row - a.row) * s.y);
  }
  // Square metres of a cell.
  area(col, row) {
    const s = this.scale(col, row);
    return s.x * s.y;
  }
}

// Metres to the east and the north of the middle of a frame, for drawing: columns have the width they have in the middle
// column at their row, rows the height they have there.
export class Flat {
  constructor(ground) {
    this.ground = ground;
    const {cols, rows} = ground;
    this.widths = new Float64Array(rows + 1);
    this.norths = new Float64Array(rows + 1);
    for (let r = 0; r <= rows; ++r) {
      this.widths[r] = ground.scale(cols / 2, r).x;
      if (r > 0) this.norths[r] = this.norths[r - 1] - ground.scale(cols / 2, r - 0.5).y;
    }
    const half = this.norths[rows] / 2;
    for (let r = 0; r <= rows; ++r) this.norths[r] -= half;
    this.width = Math.max(this.widths[0], this.widths[rows]) * cols;
    this.height = this.norths[0] - this.norths[rows];
  }
  at(list, row) {
    const r = Math.min(Math.max(Math.floor(row), 0), list.length - 2);
    return list[r] + (row - r) * (list[r + 1] - list[r]);
  }
  x(col, row) {
    return (col - this.ground.cols / 2) * this.at(this.widths, row);
  }
  y(row) {
    return this.at(this.norths, row);
  }
  cell(x, y) {
    const {rows, cols} = this.ground;
    const n = this.norths;
    // Rows are nearly even: a guess, then steps.
    let r = Math.floor((rows * (n[0] - y)) / (n[0] - n[rows]));
    r = Math.min(Math.max(r, 0), rows - 1);
    while (r > 0 && n[r] < y) r -= 1;
    while (r < rows - 1 && n[r + 1] > y) r += 1;
    const row = r + (n[r] - y) / (n[r] - n[r + 1]);
    return {col: cols / 2 + x / this.at(this.widths, row), row};
  }
}

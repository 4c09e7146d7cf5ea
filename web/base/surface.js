// Heights over a frame: what they are at a place, how steep the ground is there, where a ray meets it.
import { Flat } from './ground.js';

export class Surface {
  // `facts`: {label, unit, metres, heights}; `metres` is what one unit of its heights has.
  constructor(ground, values, facts) {
    Object.assign(this, {ground, values, facts, cols: ground.cols, rows: ground.rows});
    this.flat = new Flat(ground);
    let low = Infinity;
    let high = -Infinity;
    for (let i = 0; i < values.length; ++i) {
      if (values[i] < low) low = values[i];
      if (values[i] > high) high = values[i];
    }
    Object.assign(this, {low, high});
  }

  inside(col, row) {
    return col >= 0 && row >= 0 && col <= this.cols && row <= this.rows;
  }
  // The value of a cell; those beyond the edge have that of the last before it.
  cell(c, r) {
    const col = c < 0 ? 0 : c >= this.cols ? this.cols - 1 : c;
    const row = r < 0 ? 0 : r >= this.rows ? this.rows - 1 : r;
    return this.values[row * this.cols + col];
  }
  // From now on a part is told by another surface of finer cells: `col`, `row` of its corner in cells of this one, which are
  // so many `times` as wide. Null: none is.
  refine(finer) {
    this.finer = finer;
  }
  // The place on the finer surface, when it reaches there: not beyond the centres of its outermost cells.
  onFiner(col, row) {
    const f = this.finer;
    if (!f) return null;
    const at = {col: (col - f.col) * f.times, row: (row - f.row) * f.times};
    const there = at.col >= 0.5 && at.row >= 0.5 && at.col <= f.surface.cols - 0.5 && at.row <= f.surface.rows - 0.5;
    return there ? at : null;
  }

  // Bilinear between the centres of cells. Void cells leave their weight to the others; in one there is no height (NaN).
  height(col, row) {
    if (!this.inside(col, row)) return NaN;
    const finer = this.onFiner(col, row);
    if (finer) return this.finer.surface.height(finer.col, finer.row);
    const c = Math.min(col, this.cols - 1e-9);
    const r = Math.min(row, this.rows - 1e-9);
    if (Number.isNaN(this.cell(Math.floor(c), Math.floor(r)))) return NaN;
    const x = Math.floor(c - 0.5);
    const y = Math.floor(r - 0.5);
    const u = c - 0.5 - x;
    const v = r - 0.5 - y;
    let sum = 0;
    let weight = 0;
    for (let j = 0; j < 2; ++j) {
      for (let i = 0; i < 2; ++i) {
        const share = (i ? u : 1 - u) * (j ? v : 1 - v);
        const z = this.cell(x + i, y + j);
        if (Number.isNaN(z) || !(share > 0)) continue;
        sum += share * z;
        weight += share;
      }
    }
    return weight > 0 ? sum / weight : NaN;
  }

  // Rise to the east and to the north in a cell, height over distance (Horn 1981); what is missing beside it continues
  // the line from the cell across. Null in a void.
  gradient(col, row) {
    const here = this.known(col, row);
    if (Number.isNaN(here)) return null;
    const side = (i, j) => {
      const there = this.known(col + i, row + j);
      if (!Number.isNaN(there)) return there;
      const across = this.known(col - i, row - j);
      return Number.isNaN(across) ? here : 2 * here - across;
    };
    const [b, d, f, h] = [side(0, -1), side(-1, 0), side(1, 0), side(0, 1)];
    // Where the cell across a corner is missing, too: on the plane of the two sides beside it.
    const corner = (i, j, upright, level) => {
      const there = this.known(col + i, row + j);
      if (!Number.isNaN(there)) return there;
      const across = this.known(col - i, row - j);
      return Number.isNaN(across) ? upright + level - here : 2 * here - across;
    };
    const [a, c, g, i] = [corner(-1, -1, b, d), corner(1, -1, b, f), corner(-1, 1, h, d), corner(1, 1, h, f)];
    const s = this.ground.scale(col + 0.5, row + 0.5);
    const up = this.facts.metres / 8;
    return {east: (up * (c + 2 * f + i - a - 2 * d - g)) / s.x, north: (up * (a + 2 * b + c - g - 2 * h - i)) / s.y};
  }
  // Those of all cells: {east, north}, NaN in voids. Made once.
  gradients() {
    if (this.rises) return this.rises;
    const {cols, rows, values} = this;
    const east = new Float32Array(cols * rows);
    const north = new Float32Array(cols * rows);
    const up = this.facts.metres / 8;
    for (let r = 0; r < rows; ++r) {
      // Ground distances change evenly along a row.
      const first = this.ground.scale(0.5, r + 0.5);
      const last = this.ground.scale(cols - 0.5, r + 0.5);
      const inner = r > 0 && r < rows - 1;
      for (let c = 0; c < cols; ++c) {
        const at = r * cols + c;
        if (inner && c > 0 && c < cols - 1) {
          const n = at - cols;
          const s = at + cols;
          const corners = values[n + 1] + values[s - 1];
          const turn = values[n - 1] + values[s + 1];
          const p = 2 * (values[at + 1] - values[at - 1]) + values[n + 1] + values[s + 1] - values[n - 1] - values[s - 1];
          const q = 2 * (values[n] - values[s]) + values[n - 1] + values[n + 1] - values[s - 1] - values[s + 1];
          if (p + q + corners + turn + values[at] === p + q + corners + turn + values[at]) {
            const t = cols > 1 ? c / (cols - 1) : 0;
            east[at] = (up * p) / (first.x + t * (last.x - first.x));
            north[at] = (up * q) / (first.y + t * (last.y - first.y));
            continue;
          }
        }
        const g = this.gradient(c, r);
        east[at] = g ? g.east : NaN;
        north[at] = g ? g.north : NaN;
      }
    }
    this.rises = {east, north};
    return this.rises;
  }
  known(c, r) {
    return c < 0 || r < 0 || c >= this.cols || r >= this.rows ? NaN : this.values[r * this.cols + c];
  }
  // Of the cell at a place: degrees, and the direction that it falls to, clockwise from grid north (null on level ground).
  slope(col, row) {
    const finer = this.onFiner(col, row);
    if (finer) return this.finer.surface.slope(finer.col, finer.row);
    const g = this.gradient(Math.min(Math.floor(col), this.cols - 1), Math.min(Math.floor(row), this.rows - 1));
    if (!g) return null;
    const steep = Math.hypot(g.east, g.north);
    const towards = (Math.atan2(-g.east, -g.north) * 180) / Math.PI;
    return {slope: (Math.atan(steep) * 180) / Math.PI, aspect: steep > 0 ? (towards + 360) % 360 : null};
  }

  // Where a ray first goes under the surface: {col, row, height}, or null. `from` and `along` in metres on the flat
  // frame, upright ones times `exaggeration` as they are drawn.
  hit(from, along, exaggeration) {
    const {flat} = this;
    const up = this.facts.metres * exaggeration;
    const span = clipped(from, along, {
      x: [-flat.width / 2, flat.width / 2],
      y: [-flat.height / 2, flat.height / 2],
      z: [Math.min(this.low * up, this.high * up) - 1e-6, Math.max(this.low * up, this.high * up) + 1e-6],
    });
    if (!span) return null;
    const over = (t) => {
      const {col, row} = flat.cell(from.x + t * along.x, from.y + t * along.y);
      return {col, row, by: from.z + t * along.z - this.height(col, row) * up};
    };
    const level = Math.hypot(along.x, along.y);
    const cell = Math.min(flat.width / this.cols, flat.height / this.rows);
    const step = level > 0 ? Math.max(cell / 2 / level, (span[1] - span[0]) / 20000) : (span[1] - span[0]) || 1;
    let above = null;
    for (let t = span[0]; ; t += step) {
      const last = t >= span[1];
      const at = over(last ? span[1] : t);
      if (at.by <= 0) {
        let a = above ?? span[0];
        let b = last ? span[1] : t;
        if (above === null && at.by < -1e-3 * Math.abs(up) && t === span[0] && level > 0) return null; // from beneath
        for (let i = 0; i < 40; ++i) {
          const middle = (a + b) / 2;
          if (over(middle).by > 0) a = middle;
          else b = middle;
        }
        const {col, row} = over(b);
        return {col, row, height: this.height(col, row)};
      }
      if (at.by > 0) above = t;
      if (last) return null;
    }
  }
}

// The part [t0, t1] of a ray, t >= 0, within a box; null where it passes by.
export function clipped(from, along, box) {
  let t0 = 0;
  let t1 = Infinity;
  for (const axis of ['x', 'y', 'z']) {
    const [low, high] = box[axis];
    if (along[axis] === 0) {
      if (from[axis] < low || from[axis] > high) return null;
      continue;
    }
    const a = (low - from[axis]) / along[axis];
    const b = (high - from[axis]) / along[axis];
    t0 = Math.max(t0, Math.min(a, b));
    t1 = Math.min(t1, Math.max(a, b));
  }
  return t0 <= t1 ? [t0, t1] : null;
}

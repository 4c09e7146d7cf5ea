// What is measured on a surface: sections along lines, distances, areas and volumes.

// Heights along a line of places, as the tool takes them: `step` metres apart (nothing: a cell of the frame), every
// corner of the line included. Distances in the unit of the heights. No points for a line of no length.
export function sectionOf(surface, line, step) {
  const {ground} = surface;
  const s = ground.scale(ground.cols / 2, ground.rows / 2);
  // By the cells that tell the whole line.
  const fine = line.every((p) => surface.onFiner(p.col, p.row)) ? surface.finer.times : 1;
  const apart = step ?? Math.min(s.x, s.y) / fine;
  const points = [];
  const add = (col, row, metres) => {
    points.push({distance: metres / surface.facts.metres, col, row, value: surface.height(col, row)});
  };
  let start = 0;
  for (let i = 0; i + 1 < line.length; ++i) {
    const [a, b] = [line[i], line[i + 1]];
    const length = ground.distance(a, b);
    if (!(length > 0)) continue;
    if (points.length === 0) add(a.col, a.row, 0);
    const wanted = Math.ceil(length / apart - 1e-9);
    for (let k = 1; k <= wanted; ++k) {
      const at = Math.min(k * apart, length);
      const t = k === wanted ? 1 : at / length;
      add(a.col + t * (b.col - a.col), a.row + t * (b.row - a.row), start + (k === wanted ? length : at));
    }
    start += length;
  }
  return points;
}

// Length on the ground as the crow flies over a map, and along the surface through the section's points; in metres. The
// second is NaN where there are voids on the way.
export function lengthsOf(surface, line) {
  let flat = 0;
  for (let i = 0; i + 1 < line.length; ++i) flat += surface.ground.distance(line[i], line[i + 1]);
  const points = sectionOf(surface, line);
  let along = 0;
  for (let i = 0; i + 1 < points.length; ++i) {
    along += Math.hypot(points[i + 1].distance - points[i].distance, points[i + 1].value - points[i].value);
  }
  return {flat, along: along * surface.facts.metres};
}

// Whether a place lies in a ring of places, by the number of sides to its east.
export function isInside(ring, col, row) {
  let inside = false;
  for (let i = 0, j = ring.length - 1; i < ring.length; j = i++) {
    const [a, b] = [ring[i], ring[j]];
    if (a.row > row !== b.row > row && col < ((b.col - a.col) * (row - a.row)) / (b.row - a.row) + a.col) {
      inside = !inside;
    }
  }
  return inside;
}

// Square metres within a ring, whatever its direction.
export function areaOf(ground, ring) {
  let sum = 0;
  for (let i = 0, j = ring.length - 1; i < ring.length; j = i++) {
    sum += (ring[j].col - ring[i].col) * (ring[j].row + ring[i].row);
  }
  const middle = ring.reduce((m, p) => ({col: m.col + p.col / ring.length, row: m.row + p.row / ring.length}),
    {col: 0, row: 0});
  return (Math.abs(sum) / 2) * ground.area(middle.col, middle.row);
}

// Of the cells whose centre lies in the ring (null: all): how many, square metres, heights, and cubic metres above and
// below a level in the unit of the heights.
export function volumeOf(surface, ring, level) {
  const {cols, rows, ground, values} = surface;
  const found = {cells: 0, voids: 0, area: 0, low: Infinity, high: -Infinity, mean: NaN, above: 0, below: 0, under: 0};
  const box = ring
    ? [Math.min(...ring.map((p) => p.col)), Math.max(...ring.map((p) => p.col)), Math.min(...ring.map((p) => p.row)),
      Math.max(...ring.map((p) => p.row))]
    : [0, cols, 0, rows];
  let sum = 0;
  for (let r = Math.max(0, Math.floor(box[2])); r < Math.min(rows, Math.ceil(box[3])); ++r) {
    for (let c = Math.max(0, Math.floor(box[0])); c < Math.min(cols, Math.ceil(box[1])); ++c) {
      if (ring && !isInside(ring, c + 0.5, r + 0.5)) continue;
      const z = values[r * cols + c];
      if (Number.isNaN(z)) {
        ++found.voids;
        continue;
      }
      const area = ground.area(c + 0.5, r + 0.5);
      ++found.cells;
      found.area += area;
      sum += z * area;
      found.low = Math.min(found.low, z);
      found.high = Math.max(found.high, z);
      const over = (z - level) * surface.facts.metres * area;
      if (over >= 0) found.above += over;
      else {
        found.below -= over;
        found.under += area;
      }
    }
  }
  found.mean = sum / found.area;
  return found;
}

// The text that `section -o FILE.csv` writes of such points.
export function sectionCsv(ground, points, decimals) {
  const lines = points.map((p) => {
    const at = ground.place(p.col, p.row);
    const digits = ground.degrees ? 9 : 3;
    const value = Number.isNaN(p.value) ? '' : p.value.toFixed(decimals);
    return `${p.distance.toFixed(3)},${at.x.toFixed(digits)},${at.y.toFixed(digits)},${value}`;
  });
  return ['distance,x,y,value', ...lines, ''].join('\n');
}

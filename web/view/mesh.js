// A square part of a surface as triangles, few where it is even: the hierarchy of src/terrain/mesh.cpp (Evans,
// Kirkpatrick & Townsend 2001) in the browser. `heights`: (n + 1) x (n + 1) nodes, n a power of two, NaN for voids.
// `errorsOf` tells once for each middle of a longest side how far off a triangle is that is not halved there;
// `trianglesOf` then gives the triangles for any error, without looking at heights again.

// A middle is straight (its side lies along a row or a column) or a diagonal's. Each is told from four finer ones, so
// from fine to coarse, and what is above is never less than what is below: no cracks.
export function errorsOf(heights, n) {
  const wide = n + 1;
  const errors = new Float32Array(wide * wide);
  const voids = voidsIn(heights, wide);
  const settle = (x, y, h, ax, ay, bx, by, finer) => {
    const at = y * wide + x;
    if (voids) {
      const x0 = Math.max(0, x - h);
      const y0 = Math.max(0, y - h);
      const x1 = Math.min(n, x + h);
      const y1 = Math.min(n, y + h);
      const missing = voids(x0, y0, x1, y1);
      if (missing > 0) {
        errors[at] = missing === (x1 - x0 + 1) * (y1 - y0 + 1) ? -1 : Infinity;
        return;
      }
    }
    let most = Math.abs(heights[at] - (heights[ay * wide + ax] + heights[by * wide + bx]) / 2);
    for (let i = 0; i < finer.length; i += 2) {
      const cx = finer[i];
      const cy = finer[i + 1];
      if (cx < 0 || cy < 0 || cx > n || cy > n) continue;
      const e = errors[cy * wide + cx];
      if (e > most) most = e;
    }
    errors[at] = most;
  };
  for (let h = 1; h < n; h *= 2) {
    const q = h / 2;
    for (let y = 0; y <= n; y += h) {
      const oddRow = (y / h) % 2 === 1;
      for (let x = oddRow ? 0 : h; x <= n; x += 2 * h) {
        const finer = h > 1 ? [x - q, y - q, x + q, y - q, x - q, y + q, x + q, y + q] : [];
        if (oddRow) settle(x, y, h, x, y - h, x, y + h, finer);
        else settle(x, y, h, x - h, y, x + h, y, finer);
      }
    }
    for (let y = h; y <= n; y += 2 * h) {
      for (let x = h; x <= n; x += 2 * h) {
        // The diagonal runs through the corners whose numbers, in squares of this size, add up to an even one.
        const falls = ((x - h) / (2 * h) + (y - h) / (2 * h)) % 2 === 0;
        const [ay, by] = falls ? [y - h, y + h] : [y + h, y - h];
        settle(x, y, h, x - h, ay, x + h, by, [x - h, y, x + h, y, x, y - h, x, y + h]);
      }
    }
  }
  return errors;
}

// How many voids there are in a box of nodes, or null where there are none at all.
function voidsIn(heights, wide) {
  if (!heights.some(Number.isNaN)) return null;
  const sums = new Uint32Array((wide + 1) * (wide + 1));
  for (let y = 0; y < wide; ++y) {
    for (let x = 0; x < wide; ++x) {
      const at = (y + 1) * (wide + 1) + x + 1;
      sums[at] = sums[at - 1] + sums[at - wide - 1] - sums[at - wide - 2] + (Number.isNaN(heights[y * wide + x]) ? 1 : 0);
    }
  }
  const sum = (x, y) => sums[y * (wide + 1) + x];
  return (x0, y0, x1, y1) => sum(x1 + 1, y1 + 1) - sum(x0, y1 + 1) - sum(x1 + 1, y0) + sum(x0, y0);
}

// {nodes: [x, y, x, y ...], triangles: [a, b, c ...]}, numbers into nodes; counter-clockwise seen from above where y
// counts downwards. Triangles with a void corner are left out.
export function trianglesOf(heights, errors, n, most) {
  const wide = n + 1;
  const numbers = new Int32Array(wide * wide).fill(-1);
  const nodes = [];
  const triangles = [];
  const number = (x, y) => {
    const at = y * wide + x;
    if (numbers[at] < 0) {
      numbers[at] = nodes.length / 2;
      nodes.push(x, y);
    }
    return numbers[at];
  };
  const known = (x, y) => !Number.isNaN(heights[y * wide + x]);
  const split = (ax, ay, bx, by, cx, cy) => {
    const mx = (ax + bx) >> 1;
    const my = (ay + by) >> 1;
    const smallest = Math.abs(ax - cx) + Math.abs(ay - cy) <= 1;
    if (!smallest && errors[my * wide + mx] > most) {
      split(cx, cy, ax, ay, mx, my);
      split(bx, by, cx, cy, mx, my);
      return;
    }
    if (known(ax, ay) && known(bx, by) && known(cx, cy)) triangles.push(number(ax, ay), number(bx, by), number(cx, cy));
  };
  split(0, 0, n, n, n, 0);
  split(n, n, 0, 0, 0, n);
  return {nodes, triangles};
}

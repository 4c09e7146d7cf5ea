// Points as they lie in a page (src/view/page_points.cpp): blocks, each with its columns packed one by one.
import { inflate, unpackTile } from '../base/planes.js';

// The columns of a block, whole numbers each: x, y, z, class, intensity, turn, line, and colours where there are any.
export async function readBlock(block, bytes, at) {
  const columns = await Promise.all(block.lengths.map(async (length, i) => {
    const start = at + block.lengths.slice(0, i).reduce((a, b) => a + b, 0);
    const out = new Int32Array(block.n);
    unpackTile(await inflate(bytes.subarray(start, start + length)), block.n, 1, 1, out, 0, block.n);
    return out;
  }));
  const [x, y, z, kind, intensity, turn, line, red, green, blue] = columns;
  return {n: block.n, x, y, z, kind, intensity, turn, line, red, green, blue};
}

// An order in which every beginning is spread evenly over all: numbers 0 to n - 1, the same each time.
export function spreadOrder(n) {
  const order = new Uint32Array(n);
  for (let i = 0; i < n; ++i) order[i] = i;
  let state = 12345;
  for (let i = n - 1; i > 0; --i) {
    state = (Math.imul(state, 1664525) + 1013904223) >>> 0;
    const j = Math.floor((state / 2 ** 32) * (i + 1));
    const held = order[i];
    order[i] = order[j];
    order[j] = held;
  }
  return order;
}

// How many of the points of each block are drawn when `most` may be in all: near blocks get more of theirs.
// `blocks`: [{n, away}], distances from the eye; a block asks for less the smaller it looks.
export function shares(blocks, most) {
  const total = blocks.reduce((sum, b) => sum + b.n, 0);
  if (total <= most) return blocks.map((b) => b.n);
  const wish = blocks.map((b) => b.n / Math.max(b.away, 1) ** 1.2);
  const drawn = blocks.map(() => 0);
  let left = most;
  let open = blocks.map((_, i) => i);
  // What a block cannot use goes to the others.
  while (open.length > 0 && left > 0) {
    const all = open.reduce((sum, i) => sum + wish[i], 0);
    const full = open.filter((i) => (left * wish[i]) / all >= blocks[i].n);
    if (full.length === 0) {
      for (const i of open) drawn[i] = Math.floor((left * wish[i]) / all);
      break;
    }
    for (const i of full) {
      drawn[i] = blocks[i].n;
      left -= blocks[i].n;
    }
    open = open.filter((i) => drawn[i] === 0);
  }
  return drawn;
}

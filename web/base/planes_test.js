import assert from 'node:assert/strict';
import test from 'node:test';
import zlib from 'node:zlib';
import { bytesOf, readPlane, unpackTile } from './planes.js';
import { random } from './helpers_test.js';

// The other direction, from the words of src/view/plane_bytes.hpp and nothing else.
function packTile(values, cols, rows) {
  const n = cols * rows;
  const folded = [];
  const grid = [];
  const mask = new Uint8Array((n + 7) >> 3);
  for (let r = 0; r < rows; ++r) {
    for (let c = 0; c < cols; ++c) {
      const i = r * cols + c;
      const left = grid[i - 1];
      const up = grid[i - cols];
      let guess = 0;
      if (c === 0) guess = r === 0 ? 0 : up;
      else if (r === 0) guess = left;
      else guess = [left, up, left + up - grid[i - cols - 1]].sort((a, b) => a - b)[1];
      if (values[i] === null) grid[i] = guess;
      else {
        grid[i] = values[i];
        mask[i >> 3] |= 1 << (i & 7);
      }
      const d = grid[i] - guess;
      folded.push(d >= 0 ? 2 * d : -2 * d - 1);
    }
  }
  const most = Math.max(...folded);
  const width = most === 0 ? 0 : Math.floor(Math.log2(most) / 8) + 1;
  const voids = values.includes(null);
  const out = [width, voids ? 1 : 0, ...(voids ? mask : [])];
  for (let b = 0; b < width; ++b) for (const f of folded) out.push(Math.floor(f / 256 ** b) % 256);
  return Uint8Array.from(out);
}

test('tiles come back whatever their values and voids are', () => {
  for (let seed = 1; seed <= 60; ++seed) {
    const next = random(seed);
    const cols = 1 + Math.floor(next() * 9);
    const rows = 1 + Math.floor(next() * 9);
    const reach = [1, 2, 300, 70000, 2 ** 30][seed % 5];
    const holes = [0, 0.3, 1][seed % 3];
    const values = Array.from({length: cols * rows}, () => (next() < holes ? null : Math.round((next() * 2 - 1) * reach)));
    const out = new Float64Array(cols * rows + 4).fill(77);
    unpackTile(packTile(values, cols, rows), cols, rows, 0.5, out, 2, cols);
    assert.deepEqual([...out], [77, 77, ...values.map((v) => (v === null ? NaN : v * 0.5 || 0)), 77, 77].map((v) => v), `seed ${seed}`);
  }
});

test('a plane of several tiles is put together, and one that is cut off is refused', async () => {
  const [cols, rows, tile] = [5, 3, 2];
  const whole = Array.from({length: 15}, (_, i) => (i === 7 ? null : i * i - 20));
  const packed = [];
  for (let r = 0; r < rows; r += tile) {
    for (let c = 0; c < cols; c += tile) {
      const [w, h] = [Math.min(tile, cols - c), Math.min(tile, rows - r)];
      const part = [];
      for (let j = 0; j < h; ++j) for (let i = 0; i < w; ++i) part.push(whole[(r + j) * cols + c + i]);
      packed.push(zlib.deflateSync(packTile(part, w, h)));
    }
  }
  const facts = {cols, rows, tile, step: 0.25, lengths: packed.map((p) => p.length)};
  const bytes = Buffer.concat(packed);
  const values = await readPlane(facts, bytesOf(bytes.toString('base64')));
  assert.deepEqual([...values], whole.map((v) => (v === null ? NaN : v / 4)));
  await assert.rejects(readPlane(facts, bytes.subarray(0, -1)), /bytes are there/);
  const broken = Uint8Array.from(bytes);
  broken[bytes.length - 3] ^= 255;
  await assert.rejects(readPlane(facts, broken));
});

test('a tile of another size than it says is refused', () => {
  assert.throws(() => unpackTile(Uint8Array.of(1, 0, 5), 2, 1, 1, new Float32Array(2), 0, 2), /not whole/);
  assert.throws(() => unpackTile(Uint8Array.of(9, 0), 1, 1, 1, new Float32Array(1), 0, 1), /not whole/);
});

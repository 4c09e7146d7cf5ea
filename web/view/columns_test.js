import assert from 'node:assert/strict';
import test from 'node:test';
import zlib from 'node:zlib';
import { readBlock, shares, spreadOrder } from './columns.js';

// Differences from the one before, folded; two bytes each.
function packed(values) {
  const folded = values.map((v, i) => v - (values[i - 1] ?? 0)).map((d) => (d >= 0 ? 2 * d : -2 * d - 1));
  return zlib.deflateSync(Uint8Array.from([2, 0, ...folded.map((f) => f % 256), ...folded.map((f) => f >> 8)]));
}

test('columns of a block come back', async () => {
  const columns = [[5, 9, -3, 400], [1, 1, 2, 2], [-100, 50, 0, 7], [2, 2, 6, 18], [300, 0, 12, 9], [17, 33, 34, 17], [1, 1, 1, 2]];
  const parts = columns.map(packed);
  const bytes = Buffer.concat([Buffer.from('xyz'), ...parts]);
  const b = await readBlock({n: 4, lengths: parts.map((p) => p.length)}, bytes, 3);
  assert.deepEqual([b.x, b.y, b.z, b.kind, b.intensity, b.turn, b.line].map((c) => [...c]), columns);
  assert.equal(b.red, undefined);
});

test('an order is one of all, and its beginnings are spread', () => {
  const n = 20000;
  const order = spreadOrder(n);
  assert.deepEqual([...order].sort((a, b) => a - b), Array.from({length: n}, (_, i) => i));
  assert.deepEqual(spreadOrder(100), spreadOrder(100));
  const low = order.slice(0, 2000).filter((i) => i < n / 2).length;
  assert.ok(low > 900 && low < 1100);
  assert.deepEqual([...spreadOrder(0)], []);
});

test('shares stay within the whole and none gets more than it has', () => {
  const blocks = [{n: 1000, away: 10}, {n: 50000, away: 100}, {n: 50000, away: 1000}, {n: 10, away: 5000}];
  for (const most of [0, 10, 5000, 60000, 101009, 200000]) {
    const drawn = shares(blocks, most);
    assert.ok(drawn.every((d, i) => d >= 0 && d <= blocks[i].n));
    const sum = drawn.reduce((a, b) => a + b, 0);
    assert.ok(sum <= Math.max(most, 0) || sum === 101010, `${sum} of ${most}`);
    if (most >= 10) assert.ok(sum > 0.9 * Math.min(most, 101010) - blocks.length);
  }
  const [, near, far] = shares(blocks, 20000);
  assert.ok(near > 3 * far);
});

import assert from 'node:assert/strict';
import test from 'node:test';
import { partAround, stillGood, wantedLevel } from './live.js';

test('cells as wide as a pixel are wanted, within what there is', () => {
  assert.equal(wantedLevel(100, 1, 5), 5);
  assert.equal(wantedLevel(8, 1, 5), 3);
  assert.equal(wantedLevel(0.001, 1, 5), 0);
  assert.equal(wantedLevel(8, 1, 0), 0);
});

test('a part lies on the surface and begins at cells of the page', () => {
  const live = {level: 4, cols: 40001, rows: 7000};
  for (const level of [0, 1, 3]) {
    for (const [col, row] of [[0, 0], [1200.3, 200.7], [2500, 437.5], [99, 400]]) {
      const p = partAround(live, level, col, row);
      assert.ok(p.col >= 0 && p.row >= 0 && p.cols <= 1024 && p.rows <= 1024);
      assert.ok(p.col + p.cols <= Math.ceil(live.cols / 2 ** level) && p.row + p.rows <= Math.ceil(live.rows / 2 ** level));
      const times = 2 ** (4 - level);
      // The place is inside, when it is on the surface at all.
      assert.ok(col * times >= p.col - times && col * times <= p.col + p.cols + times, `${level} ${col}`);
      assert.ok(stillGood(p, level, live, col, row));
      assert.ok(!stillGood(p, level + 1, live, col, row));
    }
  }
  const small = partAround({level: 1, cols: 300, rows: 200}, 0, 75, 50);
  assert.deepEqual(small, {level: 0, col: 0, row: 0, cols: 300, rows: 200});
  assert.ok(!stillGood(partAround(live, 0, 1200, 200), 0, live, 1300, 200));
  assert.ok(!stillGood(null, 0, live, 1, 1));
});

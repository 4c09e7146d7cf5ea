import assert from 'node:assert/strict';
import test from 'node:test';
import { areaText, decimalsOf, degreesText, lengthText, numeral, roundBelow, ticks } from './numbers.js';

test('numbers as people read them', () => {
  assert.equal(numeral(-0.0004, 3), '0.000');
  assert.equal(numeral(-0.0006, 3), '−0.001');
  assert.equal(numeral(1234, 1), '1234.0');
  assert.equal(numeral(5841246.54, 2), '5\u202f841\u202f246.54');
  assert.equal(numeral(NaN, 2), '–');
  assert.equal(decimalsOf(0.001), 3);
  assert.equal(decimalsOf(0.002), 3);
  assert.equal(decimalsOf(1), 0);
  assert.equal(decimalsOf(10), 0);
  assert.equal(lengthText(30.48, 'ft', 0.3048), '100.0 ft');
  assert.equal(areaText(12345), '1.234 ha');
});

test('degrees carry over into minutes and never say sixty', () => {
  assert.equal(degreesText(-30.99999999, ['E', 'W']), '31°00′00.0″ W');
  assert.equal(degreesText(37.5575, ['N', 'S']), '37°33′27.0″ N');
  assert.equal(degreesText(0.5 / 60 / 60, ['N', 'S']), '0°00′00.5″ N');
});

test('ticks are round and inside', () => {
  assert.deepEqual(ticks(-9.7, 25.2, 5), [-5, 0, 5, 10, 15, 20, 25]);
  assert.deepEqual(ticks(0, 1, 4), [0, 0.2, 0.4, 0.6000000000000001, 0.8, 1]);
  assert.deepEqual(ticks(3, 3, 4), [3]);
  assert.ok(!Object.is(ticks(-1, 1, 2).find((v) => v === 0), -0));
  for (const v of [0.00037, 1, 9.99, 731, 5e6]) {
    const r = roundBelow(v);
    assert.ok(r <= v * (1 + 1e-9) && v < 2.5 * r, `${v} ${r}`);
  }
});

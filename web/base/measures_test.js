import assert from 'node:assert/strict';
import test from 'node:test';
import { Ground } from './ground.js';
import { areaOf, isInside, lengthsOf, sectionCsv, sectionOf, volumeOf } from './measures.js';
import { Surface } from './surface.js';
import { METRES, flatFrame } from './helpers_test.js';

function surfaceOf(cols, rows, size, f, facts = METRES) {
  const values = new Float32Array(cols * rows);
  for (let r = 0; r < rows; ++r) for (let c = 0; c < cols; ++c) values[r * cols + c] = f(c + 0.5, r + 0.5);
  return new Surface(new Ground(flatFrame(cols, rows, size)), values, facts);
}
const near = (a, b, by) => assert.ok(Math.abs(a - b) <= by, `${a} is not ${b}`);

test('a section has its corners, its steps and its end', () => {
  const s = surfaceOf(40, 30, 2, (c) => 2 * c);
  const line = [{col: 5, row: 5}, {col: 15, row: 5}, {col: 15, row: 5}, {col: 15, row: 12.25}];
  const points = sectionOf(s, line);
  assert.equal(points.length, 1 + 10 + 8);
  assert.deepEqual(points.slice(0, 2).map((p) => p.distance), [0, 2]);
  near(points[10].distance, 20, 1e-9);
  assert.deepEqual([points[10].col, points[10].row], [15, 5]);
  near(points.at(-1).distance, 34.5, 1e-9);
  for (const p of points) near(p.value, 2 * p.col, 1e-4);
  assert.deepEqual(sectionOf(s, [{col: 1, row: 1}, {col: 1, row: 1}]), []);
  assert.ok(Number.isNaN(sectionOf(s, [{col: 39, row: 1}, {col: 45, row: 1}]).at(-1).value));
  const lines = sectionCsv(s.ground, points, 3).split('\n');
  assert.equal(lines[0], 'distance,x,y,value');
  assert.equal(lines[1], '0.000,500010.000,5799990.000,10.000');
  assert.equal(lines.length, points.length + 2);
});

test('distances are in the unit of the heights, lengths in metres', () => {
  const s = surfaceOf(40, 30, 1, () => 7, {...METRES, unit: 'ft', metres: 0.3048});
  near(sectionOf(s, [{col: 3, row: 3}, {col: 13, row: 3}]).at(-1).distance, 10 / 0.3048, 1e-9);
  const slope = surfaceOf(40, 30, 1, (c) => 0.75 * c);
  const {flat, along} = lengthsOf(slope, [{col: 4, row: 8}, {col: 24, row: 8}]);
  near(flat, 20, 1e-9);
  near(along, 25, 1e-3);
});

test('what lies in a ring', () => {
  const ring = [{col: 0, row: 0}, {col: 10, row: 0}, {col: 10, row: 10}, {col: 5, row: 3}, {col: 0, row: 10}];
  assert.ok(isInside(ring, 1, 5));
  assert.ok(isInside(ring, 9, 5));
  assert.ok(!isInside(ring, 5, 8));
  assert.ok(!isInside(ring, -1, 5));
  const ground = new Ground(flatFrame(20, 20, 3));
  near(areaOf(ground, ring), (100 - 35) * 9, 1e-9);
  near(areaOf(ground, [...ring].reverse()), (100 - 35) * 9, 1e-9);
});

test('the volume of a cone, above and below', () => {
  const s = surfaceOf(201, 201, 0.5, (c, r) => 20 - 0.5 * 0.5 * Math.hypot(c - 100.5, r - 100.5));
  const v = volumeOf(s, null, 0);
  const cone = (Math.PI * 40 * 40 * 20) / 3;
  near(v.above, cone, cone * 2e-3);
  near(v.area - v.under, Math.PI * 1600, Math.PI * 1600 * 3e-3);
  const ring = [{col: 0, row: 0}, {col: 201, row: 0}, {col: 201, row: 100.5}, {col: 0, row: 100.5}];
  // Centres on the ring's side are not inside: half a row less.
  near(volumeOf(s, ring, 0).above, cone / 2 - (800 * 0.5) / 2, cone * 1e-3);
  assert.equal(volumeOf(s, [{col: 1, row: 1}, {col: 1.1, row: 1}, {col: 1.1, row: 1.1}], 0).cells, 0);
});

test('voids are counted apart', () => {
  const s = surfaceOf(10, 10, 1, (c) => (c < 3 ? NaN : -2));
  const v = volumeOf(s, null, 0);
  assert.deepEqual([v.cells, v.voids, v.below, v.under, v.above], [70, 30, 140, 70, 0]);
});

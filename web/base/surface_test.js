import assert from 'node:assert/strict';
import test from 'node:test';
import { Ground } from './ground.js';
import { Surface, clipped } from './surface.js';
import { METRES, degreesFrame, flatFrame, random } from './helpers_test.js';

function surfaceOf(frame, f, facts = METRES) {
  const values = new Float32Array(frame.cols * frame.rows);
  for (let r = 0; r < frame.rows; ++r) for (let c = 0; c < frame.cols; ++c) values[r * frame.cols + c] = f(c + 0.5, r + 0.5);
  return new Surface(new Ground(frame), values, facts);
}
const near = (a, b, by, what) => assert.ok(Math.abs(a - b) <= by, `${what ?? ''} ${a} is not ${b}`);

test('a plane is met exactly between the centres of cells', () => {
  const s = surfaceOf(flatFrame(17, 9), (c, r) => 3 + 0.5 * c - 0.25 * r);
  const next = random(3);
  for (let i = 0; i < 200; ++i) {
    const [c, r] = [0.5 + next() * 16, 0.5 + next() * 8];
    near(s.height(c, r), 3 + 0.5 * c - 0.25 * r, 1e-5);
  }
  assert.ok(Number.isNaN(s.height(-0.01, 4)));
  assert.ok(Number.isNaN(s.height(4, 9.01)));
  assert.equal(s.height(0, 0), s.values[0]); // beyond the outermost centres the edge goes on
});

test('beside a void the other cells are used, in a void there is no height', () => {
  const s = surfaceOf(flatFrame(4, 4), (c, r) => (c === 1.5 && r === 1.5 ? NaN : 10));
  assert.equal(s.height(2.1, 2.1), 10);
  assert.ok(Number.isNaN(s.height(1.4, 1.6)));
});

test('slopes of a plane are exact to the rim and beside voids, in metres, feet and degrees', () => {
  for (const [frame, facts, up] of [[flatFrame(9, 7, 2), METRES, 1], [flatFrame(9, 7, 2), {...METRES, metres: 0.3048}, 0.3048]]) {
    const s = surfaceOf(frame, (c, r) => (c === 4.5 && r === 3.5 ? NaN : 0.7 * c + 0.2 * r), facts);
    const {east, north} = s.gradients();
    for (let i = 0; i < east.length; ++i) {
      if (i === 3 * 9 + 4) {
        assert.ok(Number.isNaN(east[i]));
        continue;
      }
      near(east[i], (0.7 * up) / 2, 1e-5, 'east');
      near(north[i], (-0.2 * up) / 2, 1e-5, 'north');
    }
    const lie = s.slope(2.2, 2.9);
    near(lie.slope, (Math.atan(Math.hypot(0.35, 0.1) * up) * 180) / Math.PI, 1e-3);
    near(lie.aspect, 360 - (Math.atan2(0.35, 0.1) * 180) / Math.PI, 1e-3);
  }
  const far = surfaceOf(degreesFrame(60, 40, 1 / 3600, -31, 60), (c) => c);
  const width = (111195 * Math.cos((60 - 20 / 3600) * (Math.PI / 180))) / 3600;
  near(far.slope(30, 20).slope, (Math.atan(1 / width) * 180) / Math.PI, 1e-3);
});

test('a ray meets the ground where it should', () => {
  const s = surfaceOf(flatFrame(200, 120), (c, r) => 10 + 0.1 * c + 3 * Math.sin(r / 9));
  const next = random(11);
  for (let i = 0; i < 100; ++i) {
    const [col, row] = [2 + next() * 196, 2 + next() * 116];
    const z = s.height(col, row);
    const up = [1, 4][i % 2];
    const eye = {x: s.flat.x(col, row) - 3 * next(), y: s.flat.y(row) + 3 * next(), z: z * up + 400};
    const to = {x: s.flat.x(col, row) - eye.x, y: s.flat.y(row) - eye.y, z: z * up - eye.z};
    const long = Math.hypot(to.x, to.y, to.z);
    const hit = s.hit(eye, {x: to.x / long, y: to.y / long, z: to.z / long}, up);
    near(hit.col, col, 0.02);
    near(hit.row, row, 0.02);
    near(hit.height, z, 0.01);
  }
  assert.equal(s.hit({x: 0, y: 0, z: 500}, {x: 0, y: 0, z: 1}, 1), null);
  assert.equal(s.hit({x: 900, y: 0, z: 500}, {x: 0, y: 0, z: -1}, 1), null);
});

test('level ground is met, too', () => {
  const s = surfaceOf(flatFrame(10, 10), () => 5);
  near(s.hit({x: 1, y: 1, z: 90}, {x: 0, y: 0, z: -1}, 1).height, 5, 1e-6);
  const slant = {x: 0.6, y: 0, z: -0.8};
  near(s.hit({x: -4, y: 0.2, z: 8}, slant, 1).col, 5 + -4 + 0.75 * 3, 1e-3);
});

test('what a ray keeps of a box', () => {
  const box = {x: [-1, 1], y: [-1, 1], z: [-1, 1]};
  assert.deepEqual(clipped({x: -3, y: 0, z: 0}, {x: 1, y: 0, z: 0}, box), [2, 4]);
  assert.equal(clipped({x: -3, y: 2, z: 0}, {x: 1, y: 0, z: 0}, box), null);
  assert.equal(clipped({x: 3, y: 0, z: 0}, {x: 1, y: 0, z: 0}, box), null);
});

test('cells are found again from where they are drawn', () => {
  for (const frame of [flatFrame(30, 20, 3), degreesFrame(1000, 3000, 1 / 1200, 10, 61)]) {
    const s = surfaceOf(frame, () => 0);
    const next = random(5);
    for (let i = 0; i < 200; ++i) {
      const [col, row] = [next() * frame.cols, next() * frame.rows];
      const back = s.flat.cell(s.flat.x(col, row), s.flat.y(row));
      near(back.col, col, 1e-6);
      near(back.row, row, 1e-6);
    }
  }
});

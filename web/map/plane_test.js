import assert from 'node:assert/strict';
import test from 'node:test';
import { random } from '../base/helpers_test.js';
import { Boxes, boxOf, dragged, fitted, graticuleStep, graticuleText, inShape, seen, shareCovered, toPixel, toPlace, usualBox, zoomed } from './plane.js';

const near = (a, b, by = 1e-9) => assert.ok(Math.abs(a - b) <= by, `${a} is not ${b}`);
const square = (w, s, e, n) => [[[[w, s], [e, s], [e, n], [w, n], [w, s]]]];

test('places become pixels and come back', () => {
  const size = {width: 640, height: 400};
  const view = fitted([-31.1, -37.6, -30.9, -37.5], size.width, size.height, 0.79);
  const next = random(2);
  for (let i = 0; i < 50; ++i) {
    const [x, y] = [next() * 640, next() * 400];
    const p = toPlace(view, size, x, y);
    const back = toPixel(view, size, p.x, p.y);
    near(back.x, x, 1e-6);
    near(back.y, y, 1e-6);
    const closer = zoomed(view, size, 3, x, y, 0, 1e12);
    const same = toPlace(closer, size, x, y);
    near(same.x, p.x);
    near(same.y, p.y);
  }
  const [w, s, e, n] = seen(view, size);
  assert.ok(w <= -31.1 && e >= -30.9 && s <= -37.6 && n >= -37.5);
  near(toPixel(dragged(view, 10, 20), size, view.x, view.y).x, 330, 1e-6);
  assert.equal(zoomed(view, size, 1e9, 0, 0, 1, 500).scale, 500);
});

test('boxes under a place are those that looking at all finds', () => {
  const next = random(9);
  const boxes = Array.from({length: 700}, () => {
    const [x, y] = [next() * 100, next() * 50];
    return [x, y, x + next() * 8, y + next() * 3];
  });
  const fast = new Boxes(boxes);
  for (let i = 0; i < 400; ++i) {
    const [x, y] = [next() * 112 - 4, next() * 58 - 2];
    const slow = boxes.flatMap(([w, s, e, n], k) => (x >= w && x <= e && y >= s && y <= n ? [k] : []));
    assert.deepEqual(fast.at(x, y), slow);
  }
  assert.deepEqual(new Boxes([]).at(1, 1), []);
  assert.deepEqual(new Boxes([[3, 3, 3, 3]]).at(3, 3), [0]);
});

test('shapes with holes, and what share of one others cover', () => {
  const ring = [[[[0, 0], [10, 0], [10, 10], [0, 10], [0, 0]], [[4, 4], [6, 4], [6, 6], [4, 6], [4, 4]]]];
  assert.ok(inShape(ring, 1, 1));
  assert.ok(!inShape(ring, 5, 5));
  assert.ok(!inShape(ring, 11, 5));
  assert.deepEqual(boxOf(ring), [0, 0, 10, 10]);
  near(shareCovered(square(0, 0, 10, 10), [square(-1, -1, 5, 11), square(4, -1, 7.5, 11)]), 0.75, 0.01);
  assert.equal(shareCovered(square(0, 0, 10, 10), []), 0);
  assert.equal(shareCovered(square(0, 0, 10, 10), [square(-1, -1, 11, 11)]), 1);
});

test('a large tile does not hide the small ones', () => {
  assert.deepEqual(usualBox([[0, 0, 1, 1], [1, 0, 2, 1], [2, 2, 3, 3], [-50, -50, 50, 50]]), [0, 0, 3, 3]);
  assert.equal(usualBox([]), null);
});

test('a graticule is in whole parts', () => {
  near(graticuleStep(0.05, 5), 1 / 60);
  near(graticuleStep(2, 5), 0.5);
  assert.equal(graticuleText(-31, 1, ['E', 'W']), '31° W');
  assert.equal(graticuleText(-31.05, 1 / 60, ['E', 'W']), '31°03′ W');
  assert.equal(graticuleText(37 + 59.9999999 / 60, 1 / 3600, ['N', 'S']), '38°00′00″ N');
  assert.equal(graticuleText(0, 1, ['N', 'S']), '0°');
});

import assert from 'node:assert/strict';
import test from 'node:test';
import { FIELD, between, direction, eyeOf, fitted, moved, turned, upOf, viewFrom, viewText, zoomed } from './camera.js';

const near = (a, b) => assert.ok(Math.abs(a - b) < 1e-9, `${a} is not ${b}`);

test('from the south, looking north', () => {
  const v = {x: 10, y: 20, z: 5, distance: 100, bearing: 0, tilt: 30, walks: false};
  const eye = eyeOf(v);
  near(eye.x, 10);
  near(eye.y, 20 - 100 * Math.cos(Math.PI / 6));
  near(eye.z, 55);
  const [d, u] = [direction(0, 30), upOf(v)];
  near(d.x * u.x + d.y * u.y + d.z * u.z, 0);
  const down = upOf({...v, bearing: 90, tilt: 90});
  near(down.x, 1);
  near(down.z, 0);
});

test('turning goes round and stays above the ground', () => {
  const v = {x: 0, y: 0, z: 0, distance: 9, bearing: 350, tilt: 80, walks: false};
  near(turned(v, 20, 0).bearing, 10);
  near(turned(v, -400, 0).bearing, 310);
  assert.equal(turned(v, 0, 50).tilt, 90);
  assert.equal(turned(v, 0, -200).tilt, 3);
  near(moved({...v, bearing: 90}, 0, 5).x, 5);
  near(moved({...v, bearing: 90}, 5, 0).y, -5);
  const to = zoomed(v, 0.5, {x: 8, y: 0, z: 0}, 1, 100);
  near(to.distance, 4.5);
  near(to.x, 4);
  assert.equal(zoomed(v, 1e-9, null, 1, 100).distance, 1);
  near(between({...v, bearing: 350}, {...v, bearing: 10}, 0.5).bearing, 0);
});

test('a fitted view holds all corners', () => {
  for (const [wide, high, ratio, bearing, tilt] of [[1000, 500, 1.6, 0, 42], [200, 900, 0.5, 30, 42], [500, 500, 1, 45, 90]]) {
    const v = fitted(wide, high, 0, ratio, bearing, tilt);
    const [eye, d, u] = [eyeOf(v), direction(bearing, tilt), upOf(v)];
    const right = {x: d.y * u.z - d.z * u.y, y: d.z * u.x - d.x * u.z, z: d.x * u.y - d.y * u.x};
    const half = Math.tan((FIELD / 2) * (Math.PI / 180));
    for (const [x, y] of [[-wide / 2, -high / 2], [wide / 2, -high / 2], [wide / 2, high / 2], [-wide / 2, high / 2]]) {
      const p = {x: x - eye.x, y: y - eye.y, z: -eye.z};
      const dot = (a) => a.x * p.x + a.y * p.y + a.z * p.z;
      assert.ok(Math.abs(dot(right)) <= dot(d) * half * ratio * 1.001);
      assert.ok(Math.abs(dot(u)) <= dot(d) * half * 1.001);
    }
  }
});

test('views go into an address and come back', () => {
  const v = {x: -12.34, y: 5, z: 1.5, distance: 250, bearing: 12.5, tilt: 33, walks: false};
  assert.deepEqual(viewFrom(viewText(v)), v);
  assert.equal(viewFrom(viewText({...v, walks: true})).walks, true);
  for (const text of ['', '1,2,3', 'a,b,c,d,e,f', '1,2,3,-4,5,6', '1,2,3,NaN,5,6']) assert.equal(viewFrom(text), null, text);
  assert.equal(viewFrom('0,0,0,1e99,0,500').tilt, 90);
});

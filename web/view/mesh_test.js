import assert from 'node:assert/strict';
import test from 'node:test';
import { errorsOf, trianglesOf } from './mesh.js';
import { random } from '../base/helpers_test.js';

function ground(n, seed, holes) {
  const next = random(seed);
  const [a, b, c] = [next() * 9 + 3, next() * 9 + 3, next()];
  const h = new Float32Array((n + 1) ** 2);
  for (let y = 0; y <= n; ++y) {
    for (let x = 0; x <= n; ++x) {
      const hole = holes && Math.hypot(x - n * c, y - n / 3) < n / 6;
      h[y * (n + 1) + x] = hole || (holes && next() < 0.002) ? NaN : 5 * Math.sin(x / a) + 4 * Math.cos(y / b) + next() * 0.02;
    }
  }
  return h;
}
const doubled = (nodes, [i, j, k]) => {
  const p = [i, j, k].map((v) => [nodes[2 * v], nodes[2 * v + 1]]);
  return (p[1][0] - p[0][0]) * (p[2][1] - p[0][1]) - (p[2][0] - p[0][0]) * (p[1][1] - p[0][1]);
};
function* threes(list) {
  for (let i = 0; i < list.length; i += 3) yield list.slice(i, i + 3);
}

test('triangles cover the square once, without cracks, for every error', () => {
  for (let seed = 1; seed <= 12; ++seed) {
    const n = [1, 2, 8, 32][seed % 4];
    const h = ground(n, seed, false);
    const errors = errorsOf(h, n);
    let before = Infinity;
    for (const most of [0, 0.01, 0.3, 5, 100]) {
      const {nodes, triangles} = trianglesOf(h, errors, n, most);
      let area = 0;
      const sides = new Map();
      for (const t of threes(triangles)) {
        const twice = doubled(nodes, t);
        assert.ok(twice < 0, 'counter-clockwise seen from above');
        area += twice / 2;
        t.forEach((a, k) => {
          const b = t[(k + 1) % 3];
          const key = `${Math.min(a, b)},${Math.max(a, b)}`;
          sides.set(key, (sides.get(key) ?? 0) + 1);
        });
      }
      assert.equal(area, -n * n, `seed ${seed}`);
      for (const [key, times] of sides) {
        const [a, b] = key.split(',').map(Number);
        const edge = [0, 1].some((k) => nodes[2 * a + k] === nodes[2 * b + k] && (nodes[2 * a + k] === 0 || nodes[2 * a + k] === n));
        assert.equal(times, edge ? 1 : 2, 'every side inside has two triangles');
      }
      assert.ok(triangles.length <= before);
      before = triangles.length;
    }
  }
});

test('no middle that was left out lies farther off than the error', () => {
  const n = 64;
  const h = ground(n, 5, false);
  const errors = errorsOf(h, n);
  const {nodes, triangles} = trianglesOf(h, errors, n, 0.25);
  for (const t of threes(triangles)) {
    for (let k = 0; k < 3; ++k) {
      const [a, b] = [t[k], t[(k + 1) % 3]];
      const x = (nodes[2 * a] + nodes[2 * b]) / 2;
      const y = (nodes[2 * a + 1] + nodes[2 * b + 1]) / 2;
      if (x % 1 || y % 1) continue;
      const z = (i) => h[nodes[2 * i + 1] * (n + 1) + nodes[2 * i]];
      if (Math.hypot(nodes[2 * a] - nodes[2 * b], nodes[2 * a + 1] - nodes[2 * b + 1]) < 1.5) continue;
      if (errors[y * (n + 1) + x] > 0.25) continue; // a short side, whose middle belongs to a finer triangle
      assert.ok(Math.abs(h[y * (n + 1) + x] - (z(a) + z(b)) / 2) <= 0.25 + 1e-6);
    }
  }
});

test('voids are left out and nothing else is', () => {
  for (let seed = 1; seed <= 10; ++seed) {
    const n = 32;
    const h = ground(n, seed, true);
    const errors = errorsOf(h, n);
    for (const most of [0, 0.5, 50]) {
      const {nodes, triangles} = trianglesOf(h, errors, n, most);
      let area = 0;
      for (const t of threes(triangles)) {
        area -= doubled(nodes, t) / 2;
        for (const i of t) assert.ok(!Number.isNaN(h[nodes[2 * i + 1] * (n + 1) + nodes[2 * i]]));
      }
      // Of each square between four nodes: all of it, or half where one corner is a void that a triangle can do without.
      let [whole, some] = [0, 0];
      for (let y = 0; y < n; ++y) {
        for (let x = 0; x < n; ++x) {
          const missing = [[0, 0], [1, 0], [0, 1], [1, 1]].filter(([i, j]) => Number.isNaN(h[(y + j) * (n + 1) + x + i])).length;
          if (missing === 0) ++whole;
          if (missing === 1) ++some;
        }
      }
      assert.ok(area >= whole && area <= whole + some / 2, `${area} of ${whole} to ${whole + some / 2}`);
    }
  }
});

test('nothing known gives nothing', () => {
  const h = new Float32Array(81).fill(NaN);
  assert.deepEqual(trianglesOf(h, errorsOf(h, 8), 8, 1), {nodes: [], triangles: []});
});

import assert from 'node:assert/strict';
import test from 'node:test';
import { areaFrom, areaText, degreesFrom, geojsonOf, metresBetween, metresFrom, quoted, shapeOf } from './area.js';

const near = (a, b, by = 1e-9) => assert.ok(Math.abs(a - b) <= by, `${a} is not ${b}`);

test('degrees in all the ways they are written', () => {
  for (const [text, value, axis] of [['-31.05', -31.05, ''], ["31°3'W", -31.05, 'x'], ['31°03′00″ W', -31.05, 'x'], ['37 33 27 S', -37.5575, 'y'], ["37°33'27\"S", -37.5575, 'y'], ['37.5575N', 37.5575, 'y'],
    ['−31.5', -31.5, ''], ['+5', 5, ''], ["-37°30'", -37.5, '']]) {
    const d = degreesFrom(text);
    assert.ok(d, text);
    near(d.value, value);
    assert.equal(d.axis, axis, text);
  }
  for (const text of ['', 'x', "31°61'W", '-31W', '31..2', '1e5', '31°W3', 'NaN', "31'"]) assert.equal(degreesFrom(text), null, text);
});

test('areas from text and back', () => {
  assert.deepEqual(areaFrom('box:-31.05,-37.6,-30.95,-37.5'), {kind: 'box', box: [-31.05, -37.6, -30.95, -37.5]});
  assert.deepEqual(areaFrom("box:37°36'S,31°3'W,37°30'S,30°57'W").box.map((v) => Math.round(v * 1e6) / 1e6), [-31.05, -37.6, -30.95, -37.5]);
  assert.deepEqual(areaFrom('box:179,-10,-179,10').box, [179, -10, 181, 10]);
  const circle = areaFrom('circle:-30.99,-37.558,0.2km');
  assert.deepEqual([circle.x, circle.y, circle.radius], [-30.99, -37.558, 200]);
  assert.equal(areaText(circle), 'circle:-30.99,-37.558,200m');
  assert.deepEqual(areaFrom(areaText(areaFrom('box:1,2,3,4'))), areaFrom('box:1,2,3,4'));
  for (const text of ['box:1,2,3', 'box:1,2,3,2', 'circle:1,2,-5m', 'circle:1,2,5 miles', 'place:kessa', '', 'box:1,2,x,4', 'box:1,95,3,99', 'box:1,2,3,4@EPSG:32725']) {
    assert.throws(() => areaFrom(text), Error, text);
  }
  assert.equal(metresFrom('100ft'), 30.48);
  assert.equal(metresFrom('0'), null);
});

test('polygons pasted as GeoJSON', () => {
  const ring = [[-31, -37.6], [-30.9, -37.6], [-30.9, -37.5], [-31, -37.6]];
  const polygon = {type: 'Polygon', coordinates: [ring]};
  for (const g of [polygon, {type: 'Feature', geometry: polygon}, {type: 'FeatureCollection', features: [{type: 'Feature', geometry: {type: 'MultiPolygon', coordinates: [[ring]]}}]}, geojsonOf({kind: 'polygon', shape: [[ring]]})]) {
    assert.deepEqual(areaFrom(JSON.stringify(g)), {kind: 'polygon', shape: [[ring]]});
  }
  for (const text of ['{', '{}', '{"type":"Point","coordinates":[1,2]}', '{"type":"Polygon","coordinates":[[[1,2],[3,4]]]}', '{"type":"Polygon","coordinates":[[[1,2],[3,4],[5,"x"],[1,2]]]}', '{"type":"Polygon","coordinates":[[[500000,5800000],[1,2],[3,4],[5,6]]]}']) {
    assert.throws(() => areaFrom(text), Error, text);
  }
});

test('a circle is as wide as it says', () => {
  const ring = shapeOf({kind: 'circle', x: -31, y: -37.5, radius: 500})[0][0];
  for (const [x, y] of ring) near(metresBetween(-31, -37.5, x, y), 500, 0.1);
  assert.deepEqual(ring[0], ring[ring.length - 1]);
  assert.equal(geojsonOf({kind: 'box', box: [1, 2, 3, 4]}).features[0].geometry.coordinates[0][0].length, 5);
});

test('words for a shell', () => {
  assert.equal(quoted('box:1,2,3,4'), 'box:1,2,3,4');
  assert.equal(quoted("it's $HOME"), "'it'\\''s $HOME'");
  assert.equal(quoted(''), "''");
  assert.equal(quoted('`rm`'), "'`rm`'");
});

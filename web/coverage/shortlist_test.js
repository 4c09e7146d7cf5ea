import assert from 'node:assert/strict';
import test from 'node:test';
import { FILTERS, bytesText, commands, filterWords, isKept, refuses, shortlistCsv, withKeys, withRest } from './shortlist.js';

const TILE = {path: 'a.tif', id: 'a', survey: 'Marrowick ground 2022', kind: 'grid', date: '2022-03-14', cell_m: 1, heights: 'EGM2008 height', access: 'open', kept: true, row: ',a.tif\n'};

test('filters ask what find asks', () => {
  const ask = (f, t = {}) => refuses({...FILTERS, ...f}, {...TILE, ...t});
  assert.equal(ask({}), '');
  assert.equal(ask({survey: 'GROUND'}), '');
  assert.notEqual(ask({survey: 'sonar'}), '');
  assert.equal(ask({from: '2022', to: '2022'}), '');
  assert.notEqual(ask({from: '2023'}), '');
  assert.notEqual(ask({to: '2021'}), '');
  assert.notEqual(ask({from: '2000'}, {date: ''}), '', 'a tile without a date passes no test for one');
  assert.equal(ask({cell: '1'}), '');
  assert.notEqual(ask({cell: '0.5'}), '');
  assert.notEqual(ask({cell: '5'}, {cell_m: 0}), '');
  assert.notEqual(ask({access: 'key'}), '');
  assert.deepEqual(filterWords({...FILTERS, survey: 'x y', from: '2016', cell: '2'}), ["--survey 'x y'", '--year 2016..', '--cell 2m']);
  assert.deepEqual(filterWords({...FILTERS, from: '2016', to: '2016'}), ['--year 2016']);
});

test('by hand counts before the search', () => {
  const [a, b] = withKeys([TILE, {...TILE, path: 'b.tif', kept: false, row: ',b.tif\n'}]);
  const hands = new Map([[a.key, 'drop'], [b.key, 'keep']]);
  assert.deepEqual([isKept(a, hands), isKept(b, hands), isKept(a, new Map())], [false, true, true]);
  assert.equal(shortlistCsv('kept,path\n', [a, b], hands), 'kept,path\n0,a.tif\n1,b.tif\n');
});

test('what a search did not meet stays, behind what it found', () => {
  const all = [TILE, {...TILE, path: 'b.tif'}, {...TILE, path: 'c.tif'}];
  const list = withRest([{...TILE, path: 'c.tif', reason: 'adds 3 %'}], all);
  assert.deepEqual(list.map((t) => [t.path, t.number, t.kept]), [['c.tif', 0, true], ['a.tif', 1, false], ['b.tif', 2, false]]);
  assert.equal(list[0].reason, 'adds 3 %');
  assert.deepEqual(withRest([], []), []);
});

test('commands can be typed as they stand', () => {
  const facts = {searched: ['my surveys'], area: 'area.geojson'};
  assert.equal(commands(facts, null, FILTERS)[0], "katoptra find --in 'my surveys' --area area.geojson -o shortlist.csv");
  assert.equal(commands(facts, {kind: 'box', box: [1, 2, 3, 4]}, {...FILTERS, kind: 'grid'})[0], "katoptra find --in 'my surveys' --area box:1,2,3,4 --kind grid -o shortlist.csv");
  assert.equal(bytesText(0), 'unknown size');
  assert.equal(bytesText(2621440), '2.5 MiB');
});

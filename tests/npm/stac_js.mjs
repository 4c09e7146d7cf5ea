// The documents of the stand-in service, read by an independent STAC library. By hand, for it needs the npm registry:
//   cd tests/npm && npm install --no-save stac-js && ../../build/bin/katoptra serve ../../demo/data --port 8080 &
//   node stac_js.mjs http://127.0.0.1:8080/
import assert from 'node:assert/strict';
import create from 'stac-js';

const base = process.argv[2];
const get = async (path, body) => {
  const url = base + path;
  const answer = await fetch(url, body && { method: 'POST', headers: { 'Content-Type': 'application/json' }, body: JSON.stringify(body) });
  const made = create(await answer.json(), false);
  made.setAbsoluteUrl?.(url);
  return made;
};

const root = await get('');
assert(root.getObjectType() === 'Catalog' && root.getChildLinks().length === 5);
assert.equal(root.getApiCollectionsLink().href, base + 'collections');
assert.equal(root.getSearchLink('POST').href, base + 'search');

const collections = (await get('collections')).getAll();
assert.equal(collections.length, 5);
for (const c of collections) {
  assert(c.getObjectType() === 'Collection' && c.license === 'CC0-1.0' && c.title.length > 0);
  const [west, south, east, north] = c.getBoundingBox();
  assert(-32.001 <= west && west < east && east <= -29.9 && -38.1 <= south && south < north && north <= -36.9);
  const [from, to] = c.getTemporalExtent();
  assert(from <= to && from.getUTCFullYear() >= 2000);
  assert.equal(c.getApiItemsLink().getAbsoluteUrl?.() ?? c.getApiItemsLink().href, `${base}collections/${c.id}/items`);
}

const items = (await get('search', { limit: 100 })).getAll();
assert(items.length > 15);
let framed = 0;
for (const i of items) {
  assert(i.type === 'Feature' && i.getDateTime() instanceof Date);
  assert.equal(i.getCollectionLink().href, `${base}collections/${i.collection}`);
  const data = i.getAsset('data');
  assert(data.hasRole('data') && data.getAbsoluteUrl().startsWith(base + 'files/'));
  assert(data.getMetadata('file:size') > 0 && /^1220[0-9a-f]{64}$/.test(data.getMetadata('file:checksum')));
  if (!i.geometry) continue;
  assert.equal(i.toGeoJSON().geometry.type, 'Polygon');
  assert.equal(i.getBoundingBox().length, 4);
  assert(i.supportsExtension('https://stac-extensions.github.io/projection/*/schema.json'));
  if (data.getMetadata('proj:epsg') === 32725) framed += data.getMetadata('proj:transform')[0] > 0;
  if (data.type.startsWith('image/tiff')) assert.equal(i.getDefaultGeoFile('tiff')?.getKey?.() ?? 'data', 'data');
}
assert(framed >= 13);
console.log(`${items.length} items of ${collections.length} collections are what they should be`);

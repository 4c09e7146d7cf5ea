// Reads our LAZ files with an independent decoder and compares every record with the plain LAS file beside it. By hand:
//   KATOPTRA_KEEP_POINTS=/tmp/laz build/bin/katoptra_tests --gtest_filter='Laz.Writes*'
//   npm install laz-perf && node tests/npm/laz_perf.mjs /tmp/laz/*.laz
import { createLazPerf } from 'laz-perf';
import fs from 'node:fs';

const reader = await createLazPerf();
let failed = 0;
for (const path of process.argv.slice(2)) {
  const packed = fs.readFileSync(path), plain = fs.readFileSync(path.replace(/\.laz$/, '.las'));
  const at = plain.readUInt32LE(96), length = plain.readUInt16LE(105);
  const file = new reader.LASZip(), memory = reader._malloc(packed.length), point = reader._malloc(length);
  reader.HEAPU8.set(packed, memory);
  file.open(memory, packed.length);
  const n = file.getCount();
  let wrong = -1;
  for (let i = 0; i < n && wrong < 0; ++i) {
    file.getPoint(point);
    for (let k = 0; k < length; ++k) if (reader.HEAPU8[point + k] !== plain[at + i * length + k]) wrong = i;
  }
  // Once more without looking at the records, for the time that it takes.
  const again = new reader.LASZip();
  again.open(memory, packed.length);
  const start = performance.now();
  for (let i = 0; i < n; ++i) again.getPoint(point);
  const speed = (n / (performance.now() - start) / 1000).toFixed(2);
  again.delete();
  console.log(`${path}: ${n} points, ${wrong < 0 ? 'all the same' : `point ${wrong} differs`}, ${speed} million a second`);
  failed += wrong >= 0;
  file.delete();
  reader._free(memory);
  reader._free(point);
}
process.exit(failed ? 1 : 0);

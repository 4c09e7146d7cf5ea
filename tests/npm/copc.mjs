// Decodes each node of our COPC files by itself with an independent decoder and compares its records with a plain LAS
// file of the same order beside it. By hand:
//   katoptra points lidar-2022 -o a.copc.laz && katoptra points a.copc.laz -o a.copc.las
//   npm install laz-perf && node tests/npm/copc.mjs a.copc.laz
import { createLazPerf } from 'laz-perf';
import fs from 'node:fs';

const decoder = await createLazPerf();
let failed = 0;
for (const path of process.argv.slice(2)) {
  const file = fs.readFileSync(path), plain = fs.readFileSync(path.replace(/\.laz$/, '.las'));
  const info = 429, format = file[104] & 63, length = plain.readUInt16LE(105), first = plain.readUInt32LE(96);
  const pages = [[Number(file.readBigUInt64LE(info + 40)), Number(file.readBigUInt64LE(info + 48))]], nodes = [];
  while (pages.length) {
    const [at, bytes] = pages.pop();
    for (let e = at; e < at + bytes; e += 32) {
      const place = [Number(file.readBigUInt64LE(e + 16)), file.readInt32LE(e + 24)], points = file.readInt32LE(e + 28);
      if (points < 0) pages.push(place);
      else nodes.push([...place, points]);
    }
  }
  nodes.sort((a, b) => a[0] - b[0]);
  let at = first, wrong = 0;
  for (const [place, bytes, points] of nodes) {
    const memory = decoder._malloc(bytes), point = decoder._malloc(length), chunk = new decoder.ChunkDecoder();
    decoder.HEAPU8.set(file.subarray(place, place + bytes), memory);
    chunk.open(format, length, memory);
    for (let i = 0; i < points; ++i, at += length) {
      chunk.getPoint(point);
      for (let k = 0; k < length; ++k)
        if (decoder.HEAPU8[point + k] !== plain[at + k]) {
          ++wrong;
          break;
        }
    }
    chunk.delete();
    decoder._free(memory);
    decoder._free(point);
  }
  console.log(`${path}: ${nodes.length} nodes, ${(at - first) / length} points, ${wrong} differ`);
  failed += wrong;
}
process.exit(failed ? 1 : 0);

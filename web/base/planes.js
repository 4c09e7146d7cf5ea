// Numbers as they lie in a page (src/view/plane_bytes.hpp says how): packed tiles of whole numbers of steps.

// Text of base 64 as bytes. Refused (an Error) where it is not.
export function bytesOf(text) {
  const plain = atob(text.trim());
  const bytes = new Uint8Array(plain.length);
  for (let i = 0; i < plain.length; ++i) bytes[i] = plain.charCodeAt(i);
  return bytes;
}

export async function inflate(bytes) {
  const stream = new Blob([bytes]).stream().pipeThrough(new DecompressionStream('deflate'));
  return new Uint8Array(await new Response(stream).arrayBuffer());
}

// One tile into `out`, whose rows are `stride` long, from place `at` on. NaN for voids.
export function unpackTile(raw, cols, rows, step, out, at, stride) {
  const n = cols * rows;
  const width = raw[0];
  const masked = raw[1] === 1;
  const mask = 2;
  const low = mask + (masked ? (n + 7) >> 3 : 0);
  if (width > 4 || raw.length !== low + width * n) throw new Error('a tile is not whole');
  const above = new Int32Array(cols);
  for (let r = 0; r < rows; ++r) {
    let left = 0;
    let corner = 0;
    const to = at + r * stride;
    for (let c = 0; c < cols; ++c) {
      const i = r * cols + c;
      const up = above[c];
      let q = up;
      if (c > 0) {
        if (r === 0) q = left;
        else {
          const lower = left < up ? left : up;
          const upper = left < up ? up : left;
          q = corner >= upper ? lower : corner <= lower ? upper : left + up - corner;
        }
      }
      let folded = 0;
      for (let b = width - 1; b >= 0; --b) folded = folded * 256 + raw[low + b * n + i];
      q += folded % 2 === 0 ? folded / 2 : -(folded + 1) / 2;
      corner = up;
      left = above[c] = q;
      out[to + c] = masked && !(raw[mask + (i >> 3)] & (1 << (i & 7))) ? NaN : q * step;
    }
  }
}

// A plane by its facts ({cols, rows, tile, step, lengths}) from all its bytes: values row by row.
export async function readPlane(facts, bytes) {
  const {cols, rows, tile, step, lengths} = facts;
  const across = Math.ceil(cols / tile);
  const values = new Float32Array(cols * rows);
  let at = 0;
  const starts = lengths.map((length) => (at += length) - length);
  if (at !== bytes.length) throw new Error(`${bytes.length} bytes are there of ${at}`);
  await Promise.all(lengths.map(async (length, i) => {
    const col = (i % across) * tile;
    const row = Math.floor(i / across) * tile;
    const raw = await inflate(bytes.subarray(starts[i], starts[i] + length));
    unpackTile(raw, Math.min(tile, cols - col), Math.min(tile, rows - row), step, values, row * cols + col, cols);
  }));
  return values;
}

// Small things for the tests of modules. Not part of any page.

// A frame of square cells of `size` metres, far from anywhere.
export function flatFrame(cols, rows, size = 1) {
  const nodes = 33;
  const even = new Array(nodes * nodes).fill(size);
  return {cols, rows, nodes, crs: 'EPSG:32725', unit: 'm', degrees: false, west: 500000, north: 5800000, cell: [size, size],
    ground: {x: even, y: even}};
}
// A frame in degrees, on a ball.
export function degreesFrame(cols, rows, cell, west, north) {
  const nodes = 33;
  const x = [];
  const y = [];
  for (let r = 0; r < nodes; ++r) {
    for (let c = 0; c < nodes; ++c) {
      const lat = north - (rows * cell * r) / (nodes - 1);
      x.push(111195 * Math.cos((lat * Math.PI) / 180) * cell);
      y.push(111195 * cell);
    }
  }
  return {cols, rows, nodes, crs: 'EPSG:4326', unit: 'degree', degrees: true, west, north, cell: [cell, cell], ground: {x, y}};
}
export const METRES = {label: 'test', unit: 'm', metres: 1, heights: ''};

// Numbers that are the same each time.
export function random(seed) {
  let state = seed >>> 0;
  return () => {
    state = (Math.imul(state, 1664525) + 1013904223) >>> 0;
    return state / 2 ** 32;
  };
}

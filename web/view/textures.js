// Bytes as a picture for the graphics: four a pixel. `over`: how it is seen between its pixels ("smooth", "sharp"), with smaller
// copies for far away; nothing: pixel for pixel.
/* global THREE */

export function texture(bytes, cols, rows, over = null) {
  const t = new THREE.DataTexture(bytes, cols, rows, THREE.RGBAFormat, THREE.UnsignedByteType);
  if (over) {
    t.magFilter = over === 'smooth' ? THREE.LinearFilter : THREE.NearestFilter;
    t.minFilter = THREE.LinearMipMapLinearFilter;
    t.generateMipmaps = true;
  }
  t.needsUpdate = true;
  return t;
}

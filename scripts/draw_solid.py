"""A binary STL as a picture, seen from the air under one lamp: draw_solid.py IN.stl OUT.ppm AZIMUTH ALTITUDE [WATER.stl]."""
import math
import sys

import numpy

WIDTH, HEIGHT = 1280, 800
STONE, WATER, PAPER = numpy.array([206, 200, 184]), numpy.array([96, 158, 205]), 247


def triangles(path):
    with open(path, "rb") as f:
        data = f.read()
    row = numpy.dtype([("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("rest", "<u2")])
    return numpy.frombuffer(data, row, int.from_bytes(data[80:84], "little"), 84)["corners"].astype(float)


def turned(corners, azimuth, altitude):
    """To the right, up and towards the eye."""
    a, e = math.radians(azimuth), math.radians(altitude)
    around = numpy.array([[math.cos(a), math.sin(a), 0], [-math.sin(a), math.cos(a), 0], [0, 0, 1]])
    down = numpy.array([[1, 0, 0], [0, math.sin(e), math.cos(e)], [0, -math.cos(e), math.sin(e)]])
    middle = (corners.reshape(-1, 3).min(axis=0) + corners.reshape(-1, 3).max(axis=0)) / 2
    return (corners - middle) @ (down @ around).T


def main():
    stone = triangles(sys.argv[1])
    water = triangles(sys.argv[5]) if len(sys.argv) > 5 else stone[:0]
    # A hair higher than the ground that it ends at.
    corners = numpy.concatenate([stone, water + [0, 0, 0.05]])
    azimuth, altitude = (float(v) for v in sys.argv[3:5])
    seen = turned(corners, azimuth, altitude)
    normals = numpy.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normals /= numpy.linalg.norm(normals, axis=1, keepdims=True) + 1e-30
    lamp = numpy.array([-0.45, 0.4, 0.8]) / numpy.linalg.norm([-0.45, 0.4, 0.8])
    light = 0.3 + 0.7 * numpy.clip(normals @ lamp, 0, 1)
    scale = min(WIDTH * 0.92 / numpy.ptp(seen[..., 0]), HEIGHT * 0.92 / numpy.ptp(seen[..., 1]))
    middle = (seen.reshape(-1, 3).min(axis=0) + seen.reshape(-1, 3).max(axis=0)) / 2
    x, y, near = WIDTH / 2 + (seen[..., 0] - middle[0]) * scale, HEIGHT / 2 - (seen[..., 1] - middle[1]) * scale, seen[..., 2]
    picture, nearest = numpy.full((HEIGHT, WIDTH, 3), PAPER, numpy.uint8), numpy.full((HEIGHT, WIDTH), -numpy.inf)
    for n, (u, v, w, lit) in enumerate(zip(x, y, near, light)):
        x0, x1 = int(max(0, u.min())), int(min(WIDTH - 1, math.ceil(u.max())))
        y0, y1 = int(max(0, v.min())), int(min(HEIGHT - 1, math.ceil(v.max())))
        area = (u[1] - u[0]) * (v[2] - v[0]) - (u[2] - u[0]) * (v[1] - v[0])
        if x1 < x0 or y1 < y0 or abs(area) < 1e-12:
            continue
        gx, gy = numpy.meshgrid(numpy.arange(x0, x1 + 1) + 0.5, numpy.arange(y0, y1 + 1) + 0.5)
        b = ((gx - u[0]) * (v[2] - v[0]) - (u[2] - u[0]) * (gy - v[0])) / area
        c = ((u[1] - u[0]) * (gy - v[0]) - (gx - u[0]) * (v[1] - v[0])) / area
        depth = w[0] + b * (w[1] - w[0]) + c * (w[2] - w[0])
        part = nearest[y0:y1 + 1, x0:x1 + 1]
        inside = (b >= -1e-6) & (c >= -1e-6) & (b + c <= 1 + 1e-6) & (depth > part)
        part[inside] = depth[inside]
        picture[y0:y1 + 1, x0:x1 + 1][inside] = (STONE if n < len(stone) else WATER) * lit
    with open(sys.argv[2], "wb") as f:
        f.write(b"P6 %d %d 255\n" % (WIDTH, HEIGHT) + picture.tobytes())


if __name__ == "__main__":
    main()

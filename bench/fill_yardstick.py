#!/usr/bin/python3
"""Void filling beside scipy on the same ground, in one run.

    bench/fill_yardstick.py [EDGE]      # half of EDGE is filled; uses build/bin/kernels
"""
import os
import re
import subprocess
import sys
import tempfile
import time

import numpy
import tifffile
from scipy import interpolate, ndimage

edge = int(sys.argv[1]) if len(sys.argv) > 1 else 4096
kernels = os.path.join(os.path.dirname(os.path.abspath(__file__)), "..", "build", "bin", "kernels")
with tempfile.TemporaryDirectory() as folder:
    ground, holed = os.path.join(folder, "ground.tif"), os.path.join(folder, "holed.tif")
    out = subprocess.run([kernels, str(edge), ground, holed], capture_output=True, text=True, check=True).stdout
    z = tifffile.imread(holed)
    truth = tifffile.imread(ground)[: z.shape[0], : z.shape[1]]
lines = [x for x in out.splitlines() if x.startswith("fill")]
print("\n".join(lines))
ours = float(re.search(r"([\d.]+) M void", lines[0])[1])
smooth = next(float(re.search(r"rms ([\d.]+) m", x)[1]) for x in lines if "smooth" in x)
void = numpy.isnan(z)
print(f"voids     {void.sum()} cells, {100 * void.mean():.2f} %")


def report(name, fill):
    start = time.perf_counter()
    filled = fill()
    speed = void.sum() / 1e6 / (time.perf_counter() - start)
    rms = numpy.sqrt(numpy.mean((filled - truth[void]) ** 2))
    print(f"{name:<24} {speed:.3f} M void cells/s, rms {rms:.2f} m: ours is {ours / speed:.1f} x as fast on one thread; the rms of the smooth one is {smooth / rms:.2f} x")


def nearest():
    index = ndimage.distance_transform_edt(void, return_distances=False, return_indices=True)
    return z[tuple(index)][void]


def linear():
    rim = ndimage.binary_dilation(void, structure=numpy.ones((3, 3))) & ~void
    return interpolate.griddata(numpy.argwhere(rim), z[rim], numpy.argwhere(void), method="linear")


report("scipy nearest", nearest)
report("scipy linear on the rims", linear)

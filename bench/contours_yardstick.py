#!/usr/bin/python3
"""Contours beside contourpy (serial) on the same ground, in one run.

    bench/contours_yardstick.py [EDGE]      # 4096 cells; uses build/bin/kernels
"""
import os
import re
import subprocess
import sys
import tempfile
import time

import contourpy
import tifffile

edge = int(sys.argv[1]) if len(sys.argv) > 1 else 4096
kernels = os.path.join(os.path.dirname(os.path.abspath(__file__)), "..", "build", "bin", "kernels")
with tempfile.TemporaryDirectory() as folder:
    ground = os.path.join(folder, "ground.tif")
    out = subprocess.run([kernels, str(edge), ground], capture_output=True, text=True, check=True).stdout
    z = tifffile.imread(ground)
print(out, end="")
ours = {int(m[2]): float(m[1]) for m in re.finditer(r"contours  ([\d.]+) s for (\d+) levels, 1 threads", out)}
points = {int(m[1]): int(m[2]) for m in re.finditer(r"for (\d+) levels, 1 threads.*?(\d+) points", out)}
for levels in (20, 200):
    generator = contourpy.contour_generator(z=z, name="serial", line_type="SeparateCode")
    start = time.perf_counter()
    count = 0
    for k in range(1, levels + 1):
        lines, _ = generator.lines(k * 1500 / levels)
        count += sum(len(line) for line in lines)
    seconds = time.perf_counter() - start
    print(f"contourpy {seconds:.3f} s for {levels} levels, {count} points: ours is {seconds / ours[levels]:.1f} x as fast on one thread, with {points[levels] / count:.4f} of its points")

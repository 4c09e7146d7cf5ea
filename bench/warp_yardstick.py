#!/usr/bin/python3
"""Bicubic warping: Katoptra's kernel on one thread beside OpenCV's cubic remap (python3-opencv) on one thread.

   bench/warp_yardstick.py [EDGE]
"""
import os
import re
import subprocess
import sys
import time

import cv2
import numpy as np

edge = int(sys.argv[1]) if len(sys.argv) > 1 else 4096
here = os.path.dirname(os.path.abspath(__file__))
cv2.setNumThreads(1)
y, x = np.mgrid[0:edge, 0:edge].astype("float32")
z = (50 * np.sin(x / 90) + 40 * np.cos(y / 70) + np.random.default_rng(1).normal(0, 0.05, (edge, edge))).astype("float32")
turn = 0.02
map_x, map_y = (x * np.cos(turn) - y * np.sin(turn)).astype("float32"), (x * np.sin(turn) + y * np.cos(turn)).astype("float32")
best = 1e9
ours = []
for _ in range(3):
    start = time.process_time()
    cv2.remap(z, map_x, map_y, cv2.INTER_CUBIC, borderMode=cv2.BORDER_CONSTANT)
    best = min(best, time.process_time() - start)
    said = subprocess.run([os.path.join(here, "..", "build", "bin", "warp"), str(edge)], capture_output=True, text=True, check=True)
    ours.append(said.stdout.strip())
theirs = edge * edge / best / 1e6
rates = [float(re.match(r"[\d.]+", o).group()) for o in ours]
print(f"remap     {theirs:.1f} Mcells/s (cubic, coordinates rounded to 1/32 cell, given as arrays)")
print(f"warp      {max(rates):.1f} Mcells/s = {max(rates) / theirs:.2f} x, {ours[rates.index(max(rates))].split(', ')[1]}")

#!/usr/bin/python3
"""LAZ of point format 6 read on one thread, beside the wasm decoder of npm's laz-perf on the same file, in turn.

   npm install --prefix FOLDER laz-perf
   bench/laz_yardstick.py FOLDER [POINTS] [TURNS]
"""
import os
import re
import shutil
import statistics
import subprocess
import sys

folder = os.path.abspath(sys.argv[1])
points = sys.argv[2] if len(sys.argv) > 2 else "4000000"
turns = int(sys.argv[3]) if len(sys.argv) > 3 else 7
root = os.path.join(os.path.dirname(os.path.abspath(__file__)), "..")
ours_program = os.path.join(root, "build", "bin", "points")
shutil.copy(os.path.join(root, "tests", "npm", "laz_perf.mjs"), folder)


def said(*command):
    return subprocess.run(command, capture_output=True, text=True, check=True, cwd=folder).stdout


said(ours_program, "laz", points, folder)
file = os.path.join(folder, "bench.laz")
theirs, ours = [], []
for _ in range(turns):
    answer = said("node", "laz_perf.mjs", file)
    if "all the same" not in answer:
        sys.exit(answer)
    theirs.append(float(re.search(r"([\d.]+) million a second", answer).group(1)))
    ours.append(float(said(ours_program, "read", file).split()[0]))
ratios = sorted(a / b for a, b in zip(ours, theirs))
print(f"wasm decoder  {min(theirs):.2f} to {max(theirs):.2f} M points/s")
print(f"katoptra      {min(ours):.2f} to {max(ours):.2f} M points/s = {statistics.median(ratios):.2f} x ({ratios[0]:.2f} to {ratios[-1]:.2f})")

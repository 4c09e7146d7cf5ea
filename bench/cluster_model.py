#!/usr/bin/python3
"""What many processes would do with many sheets, from times measured on this machine.

    bench/cluster_model.py measure [TOOL [FOLDER]]     task times into bench-tasks.json
    bench/cluster_model.py model [bench-tasks.json]    10,000 sheets of 10,000 x 10,000 cells on 8 to 512 cores

The model: each core is a process of one thread. It takes a sheet as soon as it is free (as katoptra-mpi hands them out), computes it
for a time drawn from those that were measured, and reads and writes a shared disk, which all share evenly and which is slow when they
want more of it than it gives. Where the verb needs a first look at the whole surface, processes under MPI share it, and runs of one
part each (--part) take it each for itself. Nothing else is in it: no network in between, no machine that fails.
"""
import heapq
import json
import os
import random
import re
import subprocess
import sys
import tempfile
import time

SHEETS, EDGE = 10000, 10000
CORES = (8, 16, 32, 64, 128, 256, 512)
DISKS = (1, 5, 20)  # gigabytes a second


def run(tool, *words):
    return json.loads(subprocess.run([tool, *map(str, words), "--json"], check=True, capture_output=True, text=True).stdout)


def measure(tool, folder):
    source = os.path.join(os.path.dirname(os.path.abspath(__file__)), "..", "demo", "data", "reference", "truth.tif")
    os.makedirs(folder, exist_ok=True)
    ground = os.path.join(folder, "ground.tif")
    if not os.path.exists(ground):
        run(tool, "reproject", source, "--cell", "0.2m", "-o", ground)
    cells = run(tool, "look", ground)[0]
    total, size = cells["cols"] * cells["rows"], os.path.getsize(ground)
    started = time.time()
    run(tool, "statistics", ground, "--threads", "1")
    reading = time.time() - started
    tasks = {"cells": total, "read_bytes": size, "look_seconds": reading, "verbs": {}}
    for verb, words in {"clip (join, pack)": ["clip", ground, "--area", f"like:{ground}"], "hillshade": ["hillshade", ground], "reproject": ["reproject", ground, "--crs", "EPSG:32724", "--cell", "0.2m"], "fill": ["fill", ground]}.items():
        out = os.path.join(folder, re.sub(r"\W.*", "", verb))
        subprocess.run(["rm", "-rf", out], check=True)
        told = run(tool, *words, "-o", os.path.join(out, "x.tif"), "--sheets", "130m", "--threads", "1")
        done = []
        records = os.path.join(out, "x.sheets")
        for name in os.listdir(records):
            if name == "collection.json":
                continue
            with open(os.path.join(records, name)) as f:
                facts = json.load(f)["properties"]["katoptra:sheet"]
            done.append((os.stat(os.path.join(records, name)).st_mtime_ns / 1e9, facts["cells"]))
        done.sort()
        # From one sheet to the next; small ones at the rim tell little.
        each = [(t - before) / n for (before, _), (t, n) in zip(done, done[1:]) if n > 200000]
        tasks["verbs"][verb] = {"seconds_a_cell": each, "written_bytes_a_cell": told["bytes"] / told["cells"], "looks": verb == "fill"}
        print(f"{verb:20} {len(each):4} sheets, {1e9 * sum(each) / len(each):6.1f} ns a cell, {1e9 * min(each):.1f} to {1e9 * max(each):.1f}", flush=True)
    with open("bench-tasks.json", "w") as f:
        json.dump(tasks, f)


def simulate(tasks, verb, cores, disk, rng, shared=True):
    """Seconds until the last sheet is whole. All slow down alike when the disk is short, so one clock runs for all."""
    v = tasks["verbs"][verb]
    per_cell = tasks["read_bytes"] / tasks["cells"] + v["written_bytes_a_cell"]
    n = EDGE * EDGE
    mean = sum(v["seconds_a_cell"]) / len(v["seconds_a_cell"])
    looks = (1 if shared else cores) if v["looks"] else 0
    # A look reads all there is: work of the cores, and of the disk.
    look = looks * tasks["look_seconds"] / tasks["cells"] * n * SHEETS / cores
    clock = max(look, looks * tasks["read_bytes"] / tasks["cells"] * n * SHEETS / (disk * 1e9))
    left = SHEETS
    busy = []
    virtual = 0.0
    for _ in range(min(cores, left)):
        heapq.heappush(busy, rng.choice(v["seconds_a_cell"]) * n)
        left -= 1
    while busy:
        done = heapq.heappop(busy)
        wanted = (len(busy) + 1) * per_cell / mean  # bytes a second
        slow = max(1.0, wanted / (disk * 1e9))
        clock += (done - virtual) * slow
        virtual = done
        if left:
            heapq.heappush(busy, virtual + rng.choice(v["seconds_a_cell"]) * n)
            left -= 1
    return clock


def hours(s):
    return f"{s / 3600:.1f} h" if s >= 3600 else f"{s / 60:.0f} min"


def model(path):
    with open(path) as f:
        tasks = json.load(f)
    rng = random.Random(1)
    for disk in DISKS:
        print(f"\nshared disk of {disk} GB/s")
        print("| | " + " | ".join(f"{c} cores" for c in CORES) + " |\n|---|" + "---|" * len(CORES))
        for verb in tasks["verbs"]:
            v = tasks["verbs"][verb]
            mean = sum(v["seconds_a_cell"]) / len(v["seconds_a_cell"])
            one = (mean + (tasks["look_seconds"] / tasks["cells"] if v["looks"] else 0)) * EDGE * EDGE * SHEETS
            for shared in (True, False) if v["looks"] else (True,):
                cells = []
                for c in CORES:
                    t = simulate(tasks, verb, c, disk, rng, shared)
                    cells.append(f"{hours(t)} ({100 * one / c / t:.0f} %)")
                how = "" if not v["looks"] else " (MPI)" if shared else " (--part)"
                print(f"| {verb}{how} | " + " | ".join(cells) + " |")


if __name__ == "__main__":
    if len(sys.argv) > 1 and sys.argv[1] == "measure":
        measure(os.path.abspath(sys.argv[2] if len(sys.argv) > 2 else "build/bin/katoptra"), sys.argv[3] if len(sys.argv) > 3 else tempfile.mkdtemp(prefix="katoptra-tasks-"))
    elif len(sys.argv) > 1 and sys.argv[1] == "model":
        model(sys.argv[2] if len(sys.argv) > 2 else "bench-tasks.json")
    else:
        sys.exit(__doc__)

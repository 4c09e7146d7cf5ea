#!/usr/bin/python3
"""Windows of a cloud-optimised grid behind HTTP: requests and bytes against the least that any reader could do with.

    bench/remote.py [TOOL [CELLS [FOLDER]]]

The least: one request for the header, which must be known first, and one for each run of tiles that lie side by side in the
file; the bytes of the directory of the finest level with its table of tiles, and of the tiles that the window touches.
"""
import json
import os
import random
import subprocess
import sys
import tempfile

import tifffile

TOOL = os.path.abspath(sys.argv[1] if len(sys.argv) > 1 else "build/bin/katoptra")
CELLS = int(sys.argv[2]) if len(sys.argv) > 2 else 10000
FOLDER = sys.argv[3] if len(sys.argv) > 3 else tempfile.mkdtemp(prefix="katoptra-remote-")
SOURCE = os.path.join(os.path.dirname(os.path.abspath(__file__)), "..")


def run(*words):
    return subprocess.run([TOOL, *map(str, words)], check=True, capture_output=True, text=True).stdout


def make(path):
    truth = os.path.join(SOURCE, "demo", "data", "reference", "truth.tif")
    facts = json.loads(run("look", truth, "--json"))[0]
    cell = (facts["bounds"][2] - facts["bounds"][0]) / CELLS
    run("reproject", truth, "--cell", f"{cell}m", "-o", path, "--quiet")


class Least:
    def __init__(self, path):
        with tifffile.TiffFile(path) as tif:
            page = tif.pages[0]
            self.cols, self.rows, self.tile = page.imagewidth, page.imagelength, page.tilewidth
            self.at, self.size = page.dataoffsets, page.databytecounts
            # The directory and what its tags point at.
            ends = [tag.valueoffset + tag.valuebytecount for tag in page.tags]
            self.header = max([page.offset + 2 + 12 * len(page.tags) + 4, *ends])
        self.across = -(-self.cols // self.tile)

    def of(self, col, row, cols, rows):
        tiles = [r * self.across + c for r in range(row // self.tile, (row + rows - 1) // self.tile + 1) for c in range(col // self.tile, (col + cols - 1) // self.tile + 1)]
        # In the order of the file; a gap of some bytes is none.
        tiles.sort(key=lambda t: self.at[t])
        runs = sum(i == 0 or self.at[t] - self.at[tiles[i - 1]] - self.size[tiles[i - 1]] > 64 for i, t in enumerate(tiles))
        return 1 + runs, self.header + sum(self.size[t] for t in tiles)


def main():
    os.makedirs(FOLDER, exist_ok=True)
    path = os.path.join(FOLDER, "grid.tif")
    if not os.path.exists(path):
        make(path)
    least = Least(path)
    facts = json.loads(run("look", path, "--json"))[0]
    west, _, _, north = facts["bounds"]
    cell = facts["cell"][0]
    service = subprocess.Popen([TOOL, "serve", FOLDER], stdout=subprocess.PIPE, text=True)
    address = service.stdout.readline().strip().rstrip("/")
    print(f"{least.cols} x {least.rows} cells, {os.path.getsize(path) / 2**20:.0f} MiB, tiles of {least.tile}; header {least.header / 1024:.1f} KiB")
    print(f"{'window':>8} {'requests':>9} {'least':>6} {'ratio':>6} {'KiB':>9} {'least':>9} {'ratio':>6}")
    chance = random.Random(1)
    try:
        for edge in (50, 500, 1500, 4000, 8000):
            asked = moved = 0
            fewest, smallest = 0, 0
            for _ in range(6):
                col, row = (chance.randrange(0, n - edge) for n in (least.cols, least.rows))
                # Half a cell inside, so that these cells and no others have their centre in the box.
                box = (west + (col + 0.25) * cell, north - (row + edge - 0.25) * cell, west + (col + edge - 0.25) * cell, north - (row + 0.25) * cell)
                out = os.path.join(FOLDER, "window.tif")
                told = json.loads(run("clip", f"{address}/files/grid.tif", "--area", "box:" + ",".join(f"{v:.9f}" for v in box) + "@" + facts["crs"].split()[0], "-o", out, "--overwrite", "--json"))
                assert (told["cols"], told["rows"]) == (edge, edge), told
                asked += told["network"]["requests"]
                moved += told["network"]["bytes"]
                n, b = least.of(col, row, edge, edge)
                fewest += n
                smallest += b
            print(f"{edge:>7}² {asked / 6:>9.1f} {fewest / 6:>6.1f} {asked / fewest:>6.2f} {moved / 6144:>9.0f} {smallest / 6144:>9.0f} {moved / smallest:>6.2f}", flush=True)
    finally:
        service.terminate()


if __name__ == "__main__":
    main()

"""Water, on the example island: a plain flood and plain walks in numpy beside the tool's, and what a study says of it."""

import heapq
import json
import os
import re
import sqlite3

import numpy

from tool import DEMO, ToolTest, main

STEPS = ((-1, 0), (-1, 1), (0, 1), (1, 1), (1, 0), (1, -1), (0, -1), (-1, -1))  # clockwise from the north


def flooded(z):
    """Each cell at the lowest level that water on it can leave at: one heap over the whole grid."""
    rows, cols = z.shape
    wide = numpy.pad(z, 1, constant_values=numpy.nan)
    level = numpy.full_like(wide, numpy.nan)
    heap = []
    for r in range(1, rows + 1):
        for c in range(1, cols + 1):
            if not numpy.isnan(wide[r, c]) and numpy.isnan(wide[r - 1 : r + 2, c - 1 : c + 2]).any():
                level[r, c] = wide[r, c]
                heapq.heappush(heap, (level[r, c], r, c))
    while heap:
        water, r, c = heapq.heappop(heap)
        for dr, dc in STEPS:
            n = (r + dr, c + dc)
            if not numpy.isnan(wide[n]) and numpy.isnan(level[n]):
                level[n] = max(water, wide[n])
                heapq.heappush(heap, (level[n], *n))
    return level[1:-1, 1:-1]


class Water(ToolTest):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.truth = os.path.join(DEMO, "reference", "truth.tif")

    def cut(self):
        """A part of the island with hollows on it."""
        self.run_tool("clip", self.truth, "--area", "box:677250,5841560,677430,5841740@EPSG:32725", "-o", "part.tif")
        return self.read_raster(self.path("part.tif"))[0]

    def test_water_that_runs_on_over_the_sea_floor_is_told(self):
        z = self.read_raster(self.truth)[0]
        told = self.run_tool("flow", self.truth, "--as", "cells", "-o", "out.tif").stdout
        percent = int(re.search(r"some (\d+) % of the surface lie below 0", told)[1])
        self.assertAlmostEqual(percent, 100 * float((z < 0).mean()), delta=3)
        self.assertGreater(percent, 10)
        self.assertGreater(self.cut().min(), 0)
        self.assertNotIn("below 0", self.run_tool("flow", "part.tif", "--as", "cells", "-o", "above.tif").stdout)
        self.assertNotIn("below 0", self.run_tool("flow", self.truth, "--sea", "0m", "--as", "cells", "-o", "sea.tif").stdout)

    def test_the_flood_of_a_plain_heap(self):
        z = self.cut()
        self.run_tool("depressions", "part.tif", "--fill", "-o", "filled.tif")
        level = flooded(z)
        numpy.testing.assert_array_equal(self.read_raster(self.path("filled.tif"))[0], level.astype("f4"))
        said = self.run_json("depressions", "part.tif", "-o", "sinks.gpkg")
        self.assertEqual(said["cells"], int((level > z).sum()))
        self.assertGreater(said["cells"], 100)
        with sqlite3.connect(self.path("sinks.gpkg")) as db:
            table = db.execute("SELECT table_name FROM gpkg_contents").fetchone()[0]
            cells, volume = db.execute(f"SELECT sum(cells), sum(volume_m3) FROM {table}").fetchone()
        self.assertEqual(cells, said["cells"])
        self.assertAlmostEqual(volume, float((level - z)[level > z].sum()), delta=0.01 * volume)

    def test_every_cell_walked_down(self):
        self.cut()
        for name in ("direction", "cells"):
            self.run_tool("flow", "part.tif", "--as", name, "-o", f"{name}.tif")
        direction, cells = self.read_raster(self.path("direction.tif"))[0], self.read_raster(self.path("cells.tif"))[0]
        rows, cols = direction.shape
        # Sources first: a cell is passed on when all above it have been.
        up = numpy.where(numpy.isnan(direction), 0, 1)
        above = numpy.zeros(up.shape, int)
        to = {}
        for (r, c), d in numpy.ndenumerate(direction):
            if not numpy.isnan(d) and d <= 8:
                dr, dc = STEPS[int(d) - 1]
                to[r, c] = (r + dr, c + dc)
                above[r + dr, c + dc] += 1
        ready = [(r, c) for (r, c), n in numpy.ndenumerate(above) if n == 0]
        done = 0
        while ready:
            at = ready.pop()
            done += 1
            if at in to:
                up[to[at]] += up[at]
                above[to[at]] -= 1
                if above[to[at]] == 0:
                    ready.append(to[at])
        self.assertEqual(done, rows * cols, "water runs in a circle")
        numpy.testing.assert_array_equal(numpy.nan_to_num(cells), up)

    def test_every_stream_ends_in_the_sea(self):
        self.run_tool("streams", self.truth, "--sea", "0m", "--from-area", "1ha", "-o", "streams.geojson")
        with open(self.path("streams.geojson")) as f:
            reaches = [x["properties"] for x in json.load(f)["features"]]
        self.assertGreater(len(reaches), 5)
        numbers = {p["number"] for p in reaches}
        for p in reaches:
            self.assertLessEqual(p["to_height"], p["from_height"])
            if p["next"]:
                self.assertIn(p["next"], numbers)
            elif not p["cut_off"]:
                self.assertLess(p["to_height"], 2, "it ends above the shore")

    def test_a_culvert_is_missing_and_a_pond_is_real(self):
        """The road's bank holds no water, once the culvert is known; the old quarry does."""
        before = self.run_json("depressions", self.truth, "--sea", "0m", "--keep-deeper", "0.5m", "-o", "before.geojson")
        self.assertEqual(before["depressions"], 2)
        with open(self.path("before.geojson")) as f:
            lake, quarry = sorted((x["properties"] for x in json.load(f)["features"]), key=lambda p: -p["depth"])
        self.assertAlmostEqual(lake["sill"], 12.5, delta=0.1)  # the road
        self.assertGreater(lake["area_m2"], 2000)
        self.assertAlmostEqual(quarry["area_m2"], 676, delta=40)
        culverts, ponds = os.path.join(DEMO, "culverts.geojson"), os.path.join(DEMO, "ponds.geojson")
        known = ("--sea", "0m", "--burn", culverts, "--keep-in", ponds)
        self.run_tool("depressions", self.truth, *known, "-o", "after.geojson")
        with open(self.path("after.geojson")) as f:
            after = [x["properties"] for x in json.load(f)["features"]]
        self.assertEqual([round(p["depth"], 2) for p in after], [round(quarry["depth"], 2)])
        # The stream goes through where the line is, and nothing is dug for it elsewhere.
        said = self.run_json("streams", self.truth, *known, "--from-area", "1ha", "-o", "streams.geojson")
        self.assertEqual(said["ending_cells"], 1)
        with open(self.path("streams.geojson")) as f:
            places = [p for x in json.load(f)["features"] for p in x["geometry"]["coordinates"]]
        with open(culverts) as f:
            (w, n), (e, s) = (p[:2] for p in json.load(f)["features"][0]["geometry"]["coordinates"])
        on_it = sum(w < p[0] < e and s < p[1] < n for p in places)
        self.assertGreater(on_it, 10)
        basin = self.run_json("basins", self.truth, *known, "--outlet", "677532,5841496", "--within", "10m", "-o", "b.gpkg")
        self.assertGreater(basin["basins"][0]["upstream_m2"], 50_000)

    def test_a_study_asks_for_what_it_must_know(self):
        with open(os.path.join(DEMO, "study.toml")) as f:
            text = f.read()
        for name in os.listdir(DEMO):
            if name not in ("study.toml", "out"):
                os.symlink(os.path.join(DEMO, name), self.path(name))
        for old, new, expect in (
            ('from_area = "1ha"\nfile = "streams', 'file = "streams', "from which area on"),
            ('from_area = "1ha"\nfile = "basins', 'file = "basins', "outlets.geojson"),
            ('from_area = "1ha"\nfile = "basins', 'from_area = "1ha"\noutlets = "culverts.geojson"\nfile = "basins', "holds no points"),
            ('burn = "culverts.geojson"', 'burn = "ponds.geojson"', "holds no lines"),
            ('burn = "culverts.geojson"', 'burn = "pipes.geojson"', "study.toml line"),
            ('keep_in = "ponds.geojson"', 'keep_in = "culverts.geojson"', "holds no polygons"),
            ('kind = "depressions"\nsea = "0m"\nkeep_deeper = "0.25m"', 'kind = "inundation"', "how high the water stands"),
            ('layers = ["basins.gpkg", ', 'layers = ["basin.gpkg", ', "basin.gpkg"),
            ('layers = ["basins.gpkg", ', 'layers = ["slope.tif", ', "slope.tif"),
            ('as = "wetness"', 'as = "distance"', "from which area on"),
            ('from_area = "1ha"\nfile = "basins', 'from_area = "1"\nfile = "basins', "10ha"),
            ('file = "ponds.gpkg"', 'file = "ponds.tif"', "ponds.tif"),
        ):
            self.assertIn(old, text)
            with open(self.path("study.toml"), "w") as f:
                f.write(text.replace(old, new))
            self.assertIn(expect, self.refused("study", "study.toml", "--dry-run", status=(2, 3)), new)

    def test_the_sea_is_laid_flat_and_can_be_undone(self):
        """The sea by a flood of numpy's own from the edge; holes smaller than an island are waves."""
        said = self.run_json("flatten", self.truth, "--sea", "0m", "--above", "0m", "--record", "sea.gpkg", "-o", "flat.tif")
        z, flat = self.read_raster(self.truth)[0], self.read_raster(self.path("flat.tif"))[0]
        low = z <= 0
        wet = numpy.zeros_like(low)
        wet[0], wet[-1], wet[:, 0], wet[:, -1] = low[0], low[-1], low[:, 0], low[:, -1]
        while True:
            wide = numpy.pad(wet, 1)
            rows, cols = z.shape
            near = numpy.zeros_like(wet)
            for dr, dc in STEPS:
                near |= wide[1 + dr : 1 + dr + rows, 1 + dc : 1 + dc + cols]
            grown = low & (near | wet)
            if (grown == wet).all():
                break
            wet = grown
        self.assertGreater(wet.sum(), 100_000)
        self.assertTrue((flat[wet] == 0).all())
        touched = flat != z
        self.assertTrue((touched <= wet).all() or (touched & ~wet).sum() < 200, (touched & ~wet).sum())
        sea = said["water"][0]
        self.assertEqual((sea["kind"], sea["level"], sea["by"]), ("sea", 0, "given"))
        self.assertTrue(any("covers a sea floor" in n for n in said["notes"]), said["notes"])
        with sqlite3.connect(self.path("sea.gpkg")) as db:
            self.assertEqual(db.execute("SELECT kind, cells FROM water").fetchone(), ("sea", sea["cells"]))
        self.run_tool("flatten", "flat.tif", "--undo", "sea.gpkg", "-o", "back.tif")
        numpy.testing.assert_array_equal(self.read_raster(self.path("back.tif"))[0], z)

    def test_nothing_is_written_when_it_is_only_planned(self):
        before = sorted(os.listdir(self.folder))
        self.run_tool("flatten", self.truth, "--sea", "0m", "--record", "r.gpkg", "-o", "plan.tif", "--dry-run")
        self.assertEqual(sorted(os.listdir(self.folder)), before)

    def test_a_record_does_not_stand_without_its_surface(self):
        """Nothing is left of it when one of its files, or the surface, cannot be written; what was there stays."""
        for there in ("lone.tif", "lone.before.tif", "lone.gpkg", None):
            if there:
                with open(self.path(there), "w") as f:
                    f.write("mine")
            for record in ("lone.gpkg", "lone.shp"):
                if there == "lone.gpkg" and record == "lone.shp":
                    continue
                out, status = ("lone.tif", 4) if there else ("lone.xyzw", 3)
                said = self.refused("flatten", self.truth, "--sea", "0m", "--record", record, "-o", out, status=status)
                self.assertIn(f"{there}: exists already" if there else "not written as", said)
            if there:
                with open(self.path(there)) as f:
                    self.assertEqual(f.read(), "mine")
                os.remove(self.path(there))

    def test_an_older_record_stays_until_there_is_a_new_one(self):
        def held(names):
            out = {}
            for name in names:
                with open(self.path(name), "rb") as f:
                    out[name] = f.read()
            return out

        for record in ("older.gpkg", "older.shp"):
            self.run_tool("flatten", self.truth, "--sea", "0m", "--record", record, "-o", "older.tif", "--overwrite")
            names = [n for n in os.listdir(self.folder) if n.startswith("older.") and n != "older.tif"]
            self.assertIn("older.before.tif", names)
            before = held(names)
            self.refused("flatten", self.truth, "--sea", "1m", "--record", record, "-o", "older.xyzw", "--overwrite",
                         status=3)
            self.assertEqual(held(names), before)
            self.run_tool("flatten", self.truth, "--sea", "1m", "--record", record, "-o", "older.tif", "--overwrite")
            self.assertNotEqual(held(names), before)
            self.assertFalse([n for n in os.listdir(self.folder) if n.startswith(".")])
            for name in names:
                os.remove(self.path(name))
        self.run_tool("flatten", self.truth, "--sea", "0m", "-o", "read.before.tif")
        said = self.refused("flatten", "read.before.tif", "--sea", "1m", "--record", "read.gpkg", "-o", "read.tif",
                            "--overwrite", status=2)
        self.assertIn("would take its place", said)

    def test_mistakes_about_water_are_told(self):
        for words, said, status in (
            ((), "not said where water is", 2),
            (("--sea", "900ft"), "all of the surface lies below", 2),
            (("--sea", "0m", "--undo", "x.gpkg"), "not both", 2),
            (("--sea", "0m", "--flat", "1m"), "add --find", 2),
            (("--sea", "0m", "--kind", "lake"), "add --water", 2),
            (("--undo", "x.gpkg", "--island", "5m2"), "not both", 2),
            (("--sea", "0m", "--record", "no.gpkg", "-o", "no.before.tif"), "same name", 2),
            (("--water", os.path.join(DEMO, "transect.geojson")), "points or lines", 2),
            (("--water", os.path.join(DEMO, "area.geojson")), "is not level", 2),
        ):
            out = () if "-o" in words else ("-o", "no.tif")
            self.assertIn(said, self.refused("flatten", self.truth, *words, *out, status=status), words)
            self.assertFalse(os.path.exists(self.path("no.tif")))


if __name__ == "__main__":
    main()

"""Points through the tool: what they are, fewer of them, other formats, surfaces; checked with numpy and scipy."""
import csv
import json
import os
import struct
import unittest

import numpy
import scipy.interpolate
import tifffile

from tool import DEMO, ToolTest

LIDAR = os.path.join(DEMO, "lidar-2022")
SHORE = os.path.join(DEMO, "soundings-2021", "shore.csv")


def las_points(path):
    """x, y, z and class of a plain LAS file of point format 6, by nothing but its published layout."""
    with open(path, "rb") as f:
        data = f.read()
    at, = struct.unpack_from("<I", data, 96)
    length, = struct.unpack_from("<H", data, 105)
    count, = struct.unpack_from("<Q", data, 247)
    scale, origin = struct.unpack_from("<3d", data, 131), struct.unpack_from("<3d", data, 155)
    record = numpy.dtype({"names": ["x", "y", "z", "class"], "formats": ["<i4", "<i4", "<i4", "u1"], "offsets": [0, 4, 8, 16], "itemsize": length})
    p = numpy.frombuffer(data, record, count, at)
    return [p[a] * s + o for a, s, o in zip("xyz", scale, origin)] + [p["class"]]


class Points(ToolTest):
    def cells(self, path):
        """The values of a grid as plain 32-bit floats."""
        self.run_tool("clip", path, "-o", "cells.flt", "--overwrite", "--void", "-9999")
        told = self.run_json("look", path)[0]
        values = numpy.fromfile(self.path("cells.flt"), "<f4").reshape(told["rows"], told["cols"]).astype(float)
        values[values == -9999] = numpy.nan
        return values

    def test_a_summary_is_what_numpy_counts(self):
        sheet = os.path.join(LIDAR, "lidar_nw.laz")
        told = self.run_json("points", sheet)
        self.run_tool("points", sheet, "-o", "a.las")
        x, y, z, c = las_points(self.path("a.las"))
        self.assertEqual(told["points"], len(x))
        self.assertEqual(told["classes"], {str(k): int((c == k).sum()) for k in numpy.unique(c)})
        numpy.testing.assert_allclose(told["bounds"], [x.min(), y.min(), x.max(), y.max()], atol=1e-6)
        numpy.testing.assert_allclose(told["range"], [z.min(), z.max()], atol=1e-6)
        self.assertEqual(told["heights"], "EGM2008 height")
        self.assertAlmostEqual(told["density_m2"], len(x) / 250000, delta=0.08)
        self.assertEqual(told["flown"], ["2022-03-14", "2022-03-14"])
        # The second flight line was drawn 3.5 cm too low.
        pair = next(d for d in told["line_differences"] if (d["line"], d["other"]) == (101, 102))
        self.assertAlmostEqual(pair["median"], -0.035, delta=0.01)

    def test_conversions_keep_every_point_where_it_is(self):
        sheet = os.path.join(LIDAR, "lidar_ne.laz")
        self.run_tool("points", sheet, "-o", "a.las")
        self.run_tool("points", "a.las", "-o", "b.laz")
        self.run_tool("points", "b.laz", "-o", "c.csv")
        self.run_tool("points", "c.csv", "--write-columns", "x,y,z,class", "-o", "d.csv")
        x, y, z, c = las_points(self.path("a.las"))
        table = numpy.loadtxt(self.path("d.csv"), delimiter=",", skiprows=1)
        numpy.testing.assert_allclose(table, numpy.column_stack([x, y, z, c]), atol=1e-9)
        # LAZ of LAZ is the same, but for the day and the tool in its header.
        self.run_tool("points", "b.laz", "-o", "e.laz")
        with open(self.path("b.laz"), "rb") as a, open(self.path("e.laz"), "rb") as b:
            self.assertEqual(a.read(), b.read())

    def test_selections_and_thinning(self):
        self.run_tool("points", LIDAR, "--class", "ground", "--area", "box:677300,5841600,677400,5841700@EPSG:32725", "-o", "g.las")
        x, y, z, c = las_points(self.path("g.las"))
        self.assertTrue(((x >= 677300) & (x <= 677400) & (y >= 5841600) & (y <= 5841700) & (c == 2)).all())
        self.run_tool("points", os.path.join(LIDAR, "lidar_nw.laz"), "-o", "all.las")
        ax, ay, az, ac = las_points(self.path("all.las"))
        inside = (ax >= 677300) & (ax <= 677400) & (ay >= 5841600) & (ay <= 5841700) & (ac == 2)
        self.assertEqual(len(x), inside.sum())
        # The index of the chunks was kept, and gives the same again.
        again = self.run_json("points", LIDAR, "--class", "2", "--area", "box:677300,5841600,677400,5841700@EPSG:32725")
        self.assertEqual(again["points"], len(x))
        kept = [f for _, _, files in os.walk(os.path.join(self.home, ".cache")) for f in files if f.endswith(".index")]
        self.assertEqual(len(kept), 4)
        self.run_tool("points", "g.las", "--thin", "lowest", "--cell", "10m", "-o", "thin.csv")
        low = numpy.loadtxt(self.path("thin.csv"), delimiter=",", skiprows=1, usecols=(0, 1, 2))
        self.assertLess(len(low), 150)
        self.assertGreaterEqual(len(low), 100)

    def test_sheets_hold_every_point_once(self):
        os.mkdir(self.path("s"))
        told = self.run_json("points", LIDAR, "--sheets", "300m", "-o", "s/sheet.laz")
        whole = self.run_json("points", LIDAR)["points"]
        self.assertEqual(told["points"], whole)
        self.assertEqual(self.run_json("points", "s")["points"], whole)

    def test_a_triangulation_is_scipys(self):
        self.run_tool("points", SHORE, "--depths", "-o", "s.las")
        x, y, z, _ = las_points(self.path("s.las"))
        told = self.run_json("grid", "s.las", "--cell", "2m", "--longest-edge", "5km", "-o", "s.tif")
        ours = self.cells("s.tif")
        west, north, cell = told["bounds"][0], told["bounds"][3], told["cell"][0]
        rows, cols = ours.shape
        gx, gy = numpy.meshgrid(west + (numpy.arange(cols) + 0.5) * cell, north - (numpy.arange(rows) + 0.5) * cell)
        # scipy wants small numbers, and one point at each place.
        _, once = numpy.unique(numpy.column_stack([x, y]), axis=0, return_index=True)
        theirs = scipy.interpolate.LinearNDInterpolator(numpy.column_stack([x - west, y - north])[once], z[once])(gx - west, gy - north)
        both = ~numpy.isnan(ours) & ~numpy.isnan(theirs)
        self.assertGreater(both.sum(), 0.99 * (~numpy.isnan(theirs)).sum())
        self.assertLess(numpy.abs(ours - theirs)[both].max(), 0.001)

    def test_statistics_of_cells(self):
        self.run_tool("points", os.path.join(LIDAR, "lidar_sw.laz"), "--class", "2", "-o", "g.las")
        x, y, z, _ = las_points(self.path("g.las"))
        told = self.run_json("points", "g.las")
        self.run_tool("grid", "g.las", "--method", "lowest,mean,count,p90", "--cell", "5m", "-o", "m.tif")
        for name in ("lowest", "mean", "count", "p90"):
            self.assertTrue(os.path.exists(self.path(f"m.{name}.tif")), name)
        with tifffile.TiffFile(self.path("m.count.tif")) as t:
            counts = t.asarray()
            place = t.pages[0].tags[33922].value
        self.assertEqual(counts.sum(), told["points"])
        col, row = ((x - place[3]) / 5).astype(int), ((place[4] - y) / 5).astype(int)
        lowest, p90 = self.cells("m.lowest.tif"), self.cells("m.p90.tif")
        for r, c in ((10, 20), (33, 7), (60, 90)):
            here = z[(row == r) & (col == c)]
            self.assertAlmostEqual(float(lowest[r, c]), here.min(), places=3)
            self.assertAlmostEqual(float(p90[r, c]), numpy.percentile(here, 90), places=3)

    def test_ground_is_found_and_written_back(self):
        told = self.run_json("points", os.path.join(LIDAR, "lidar_se.laz"), "--find-ground", "--water-level", "0m", "-o", "se.laz")
        classes = self.run_json("points", "se.laz")["classes"]
        self.assertEqual(sum(classes.values()), told["points"])
        self.assertGreater(classes["2"], 60000)
        self.assertGreater(classes["9"], 5000)
        self.assertIn("7", classes)
        self.assertEqual(self.run_json("points", os.path.join(LIDAR, "lidar_se.laz"))["classes"], {"1": told["points"]})

    def test_a_grid_of_an_area_is_that_part_of_the_whole(self):
        box = "box:677300,5841600,677400,5841700@EPSG:32725"
        whole = self.run_json("grid", LIDAR, "--cell", "1m", "-o", "whole.tif")
        part = self.run_json("grid", LIDAR, "--area", box, "--cell", "1m", "-o", "part.tif")
        self.assertEqual(part["bounds"], [677300, 5841600, 677400, 5841700])
        west, north = whole["bounds"][0], whole["bounds"][3]
        rows, cols = slice(int(north - 5841700), int(north - 5841600)), slice(int(677300 - west), int(677400 - west))
        ours, theirs = self.cells("part.tif"), self.cells("whole.tif")[rows, cols]
        known = ~numpy.isnan(ours) & ~numpy.isnan(theirs)
        self.assertGreater(known.mean(), 0.95)
        self.assertTrue((ours[known] == theirs[known]).all())
        # Longest edges follow from the spacing, which is nearly the same there.
        self.assertLess((numpy.isnan(ours) != numpy.isnan(theirs)).mean(), 0.02)

    def test_soundings_with_their_uncertainty(self):
        done = self.run_tool("grid", SHORE, "--depths", "--shift", "-0.62m", "--heights", "EGM2008", "--method", "natural", "--cell", "2m", "--longest-edge", "16m", "--surface", "sea-floor",
                             "--uncertainty", "u.tif", "-o", "s.tif")
        self.assertIn("special order", done.stdout)
        truth = self.cells(os.path.join(DEMO, "reference", "truth.tif"))
        ours = self.cells("s.tif")
        told = self.run_json("look", "s.tif")[0]
        self.assertEqual(told["heights"], "EGM2008 height")
        self.assertEqual(told["surface"], "sea floor")
        west, north = told["bounds"][0], told["bounds"][3]
        # The truth has cells of a metre from 677230, 5841770; ours of two lie between its cells.
        errors = []
        for r in range(0, ours.shape[0], 3):
            for c in range(0, ours.shape[1], 3):
                i, k = int(5841770 - (north - 2 * r - 1)), int(west + 2 * c + 1 - 677230)
                if not numpy.isnan(ours[r, c]) and 1 <= i < truth.shape[0] and 1 <= k < truth.shape[1]:
                    errors.append(ours[r, c] - truth[i - 1:i + 1, k - 1:k + 1].mean())
        self.assertGreater(len(errors), 1000)
        self.assertLess(numpy.sqrt(numpy.mean(numpy.square(errors))), 0.15)
        uncertainty = self.cells("u.tif")
        # 95 % of the errors lie within what it says, nearly.
        self.assertGreater(numpy.nanmedian(uncertainty), 1.2 * numpy.std(errors))

    def test_breaklines_from_a_file(self):
        line = {"type": "FeatureCollection", "crs": {"type": "name", "properties": {"name": "EPSG:32725"}},
                "features": [{"type": "Feature", "properties": {}, "geometry": {"type": "LineString", "coordinates": [[677300, 5841600.5, 70], [677330, 5841600.5, 70]]}}]}
        with open(self.path("wall.geojson"), "w") as f:
            json.dump(line, f)
        told = self.run_json("grid", os.path.join(LIDAR, "lidar_nw.laz"), "--cell", "1m", "--breaklines", "wall.geojson", "-o", "w.tif")
        grid = self.cells("w.tif")
        r, c = int(told["bounds"][3] - 5841600.5), int(677315.5 - told["bounds"][0])
        self.assertAlmostEqual(float(grid[r, c]), 70, places=2)
        self.assertLess(float(grid[r - 4, c]), 60)

    def test_pictures(self):
        self.run_tool("points", LIDAR, "--picture", "top.png", "--colour-by", "class")
        self.run_tool("points", LIDAR, "--picture", "slice.png", "--colour-by", "height", "--slice-from", "677380,5841700", "--slice-to", "677470,5841640", "--slab", "4m")
        for name, least in (("top.png", 1280), ("slice.png", 1280)):
            with open(self.path(name), "rb") as f:
                head = f.read(24)
            self.assertEqual(head[:8], b"\x89PNG\r\n\x1a\n")
            self.assertGreaterEqual(struct.unpack(">I", head[16:20])[0], least)

    def test_heights_above_the_ground(self):
        done = self.run_tool("sample", os.path.join(LIDAR, "lidar_nw.laz"), "--at", "677450,5841750", "--at", "677250,5841500", "--radius", "4m")
        rows = list(csv.DictReader(done.stdout.splitlines()))
        self.assertEqual(rows[0]["class"], "high vegetation")
        self.assertGreater(float(rows[0]["above_ground"]), 5)
        self.assertIn("from the ground at the second place", done.stderr)

    def test_look_and_find_know_points(self):
        told = self.run_json("look", os.path.join(LIDAR, "lidar_se.laz"))[0]
        self.assertEqual((told["kind"], told["point_format"], told["points"]), ("points", 6, told["declared_points"]))
        self.assertEqual([f["code"] for f in told["findings"]], ["unclassified"])
        found = self.run_json("find", "--in", DEMO, "--area", "box:677300,5841300,678000,5841800@EPSG:32725", "--kind", "points")
        kept = [t for t in found["tiles"] if t["kept"]]
        self.assertEqual(len(kept), 4)
        self.assertGreater(found["covered_fraction"], 0.999)
        classed = self.run_json("find", "--in", DEMO, "--area", "box:677300,5841300,678000,5841800@EPSG:32725", "--class", "6")
        self.assertEqual(sorted(os.path.basename(t["path"]) for t in classed["tiles"] if t["kept"]), ["lidar_ne.laz", "lidar_nw.laz", "lidar_sw.laz"])

    def test_what_is_wrong_is_said(self):
        sheet = os.path.join(LIDAR, "lidar_nw.laz")
        with open(sheet, "rb") as f:
            data = f.read()
        with open(self.path("cut.laz"), "wb") as f:
            f.write(data[:len(data) // 2])
        done = self.run_tool("points", "cut.laz", "-o", "x.las", status=3)
        self.assertIn("cut.laz", done.stderr)
        self.assertFalse(os.path.exists(self.path("x.las")))
        saved = self.run_json("points", "cut.laz", "--salvage", "-o", "x.las")
        self.assertGreater(saved["points"], 50000)
        self.assertEqual(self.run_json("look", "cut.laz")[0]["findings"][0]["code"], "damaged")
        self.assertIn("thinning needs a cell", self.run_tool("points", sheet, "--thin", "lowest", status=2).stderr)
        self.assertIn("is not a class of points", self.run_tool("points", sheet, "--class", "meadow", status=2).stderr)
        self.assertIn("make a surface of them with grid", self.run_tool("hillshade", sheet, "-o", "h.tif", status=3).stderr)
        self.run_tool("grid", sheet, "-o", "a.tif", "--cell", "2m")
        self.assertIn("exists", self.run_tool("grid", sheet, "-o", "a.tif", "--cell", "2m", status=4).stderr)


if __name__ == "__main__":
    unittest.main()

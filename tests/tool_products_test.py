"""The tool on the demo's data; what it writes is read by programs that know nothing of Katoptra."""
import csv
import io
import json
import math
import os
import sqlite3
import subprocess
import unittest

import numpy

from tool import DEMO, ToolTest, main

SHEET = os.path.join(DEMO, "ground-2022", "sheet_b2.tif")
ORBIT = [os.path.join(DEMO, "orbit-2000", f"S38W03{n}.hgt.zip") for n in (1, 2)]
AREA = os.path.join(DEMO, "area.geojson")


class Surface(ToolTest):
    def test_chain_from_tiles_to_hillshade(self):
        """Two tiles, joined, cut, moved and shaded: each step read by libtiff and tifffile."""
        m = self.run_json("mosaic", *ORBIT, "-o", "m.tif")
        self.assertEqual((m["type"], m["heights"], m["crs"], m["cols"], m["rows"]), ("int16", "EGM96 height", "EPSG:4326", 7201, 3601))
        self.assertEqual(m["void_value"], -32768)
        c = self.run_json("clip", "m.tif", "--area", "box:-31.04,-37.58,-30.96,-37.52", "-o", "c.tif")
        self.assertEqual((c["cols"], c["rows"]), (289, 217))  # nodes on both edges belong
        self.assertEqual(c["sources"], m["sources"])
        self.assertTrue(os.path.exists(self.path("c.lineage.tif")), "what was traced stays traced")
        values, geo = self.read_raster(self.path("c.tif"))
        self.assertEqual(values.shape, (217, 289))
        self.assertEqual(int(numpy.isnan(values).sum()), c["voids"])
        self.assertEqual([numpy.nanmin(values), numpy.nanmax(values)], c["range"])
        self.assertEqual(geo["VerticalCSTypeGeoKey"], 5773)
        self.assertAlmostEqual(geo["ModelTiepoint"][3], -31.04 - 0.5 / 3600, 9)
        r = self.run_json("reproject", "c.tif", "--crs", "utm", "-o", "r.tif")
        self.assertEqual((r["crs"], r["type"]), ("EPSG:32725", "float32"))
        self.assertTrue(all(abs(s - r["cell"][0]) < 0.02 for s in r["ground_spacing_m"]))
        self.assertEqual(r["bounds"][0] % r["cell"][0], 0)
        f = self.run_json("fill", "r.tif", "-o", "f.tif", "--largest", "2km")
        self.assertEqual(f["cells_closed"] + f["cells_left"], r["voids"])
        h = self.run_json("hillshade", "f.tif", "-o", "h.tif")
        shade, _ = self.read_raster(self.path("h.tif"))
        self.assertEqual(h["type"], "uint8")
        self.assertTrue(numpy.nanmin(shade) >= 1)
        # The flat sea is lit by sin 45 degrees.
        self.assertEqual(numpy.nanmedian(shade[:20]), round(1 + 254 * numpy.sqrt(0.5)))

    def test_same_bytes_for_every_thread_count(self):
        for n in (1, 2, 3):
            self.run_tool("mosaic", os.path.join(DEMO, "ground-2022", "sheet_a1.tif"), SHEET, "-o", f"{n}.tif", "--threads", n, "--feather", "5m", "--quiet")
        first = open(self.path("1.tif"), "rb").read()
        self.assertEqual(first, open(self.path("2.tif"), "rb").read())
        self.assertEqual(first, open(self.path("3.tif"), "rb").read())

    def test_mosaic_lineage_table_explains_the_plane(self):
        self.run_tool("mosaic", SHEET, os.path.join(DEMO, "ground-2022", "sheet_b1.tif"), os.path.join(DEMO, "sonar-2019", "kessa.tif"), "-o", "m.tif")
        codes, _ = self.read_raster(self.path("m.lineage.tif"))
        with open(self.path("m.lineage.csv")) as f:
            table = {int(row["code"]): row for row in csv.DictReader(f)}
        used = {int(c) for c in numpy.unique(codes[~numpy.isnan(codes)])}
        self.assertTrue(used <= set(table))
        told = {(table[c]["source"], table[c]["how"]) for c in used}
        self.assertEqual(told, {("sheet_b2.tif", "measured"), ("sheet_b1.tif", "measured"), ("kessa.tif", "resampled")})
        self.assertEqual(table[min(c for c in table if table[c]["source"] == "sheet_b1.tif")]["treatment"], "ft to m")

    def test_crs_is_assigned_only_when_told(self):
        lost = os.path.join(DEMO, "ground-2022", "sheet_c1.tif")
        m = self.run_json("mosaic", SHEET, lost, "--crs", "EPSG:32725", "-o", "m.tif")
        self.assertEqual(m["crs"], "EPSG:32725")
        self.assertIn("32724", self.refused("look", SHEET, "--crs", "EPSG:32724", status=3))

    def test_options_take_what_is_theirs_and_no_more(self):
        other = os.path.join(DEMO, "ground-2022", "sheet_b1.tif")
        m = self.run_json("mosaic", "--prefer", "finest,given", other, SHEET, "-o", "m.tif", "--void", "-9999")
        self.assertEqual(m["sources"], ["sheet_b1.tif", "sheet_b2.tif"])
        self.assertEqual(m["void_value"], -9999)
        self.assertEqual(m["unit"], "ft")  # that of the tile preferred first
        self.run_tool("sample", "--at", "677600,5841400", "--at", "677601,5841400", SHEET)

    def test_dry_run_writes_nothing(self):
        out = self.run_tool("reproject", SHEET, "--cell", "0.1m", "-o", "a.tif", "--dry-run").stdout
        self.assertIn("5000 x 4000 cells", out)
        self.assertEqual(self.files(), [])

    def test_find_tells_years_apart_and_shows_gaps(self):
        j = self.run_json("find", "--in", DEMO, "--area", AREA, "-o", "s.csv")
        self.assertEqual(j["covered_fraction"], 1)
        tiles = {os.path.basename(t["path"]): t for t in j["tiles"]}
        self.assertTrue(tiles["sheet_b2.tif"]["kept"])
        self.assertIn("no coordinate reference", tiles["sheet_c1.tif"]["reason"])
        self.assertIn("restricted", tiles["sheet_c3.tif"]["reason"])
        self.assertFalse(tiles["ground_ne.tif"]["kept"] and tiles["ground_ne.tif"]["date"] > "2022")
        with open(self.path("s.csv")) as f:
            rows = list(csv.DictReader(f))
        self.assertEqual(sum(r["kept"] == "1" for r in rows), sum(t["kept"] for t in j["tiles"]))
        beyond = self.run_json("find", "--in", os.path.join(DEMO, "ground-2022"), "--area", "box:677000,5840600,678000,5841000@EPSG:32725", "--complete", status=1)
        self.assertAlmostEqual(beyond["covered_fraction"], 0.5, 9)
        self.assertEqual(len(beyond["gaps"]["features"]), 1)
        # A shortlist is an input of the next command.
        m = self.run_json("mosaic", "s.csv", "-o", "m.tif")
        self.assertEqual(len(m["sources"]), sum(r["kept"] == "1" for r in rows))

    def test_look_is_a_list_with_everything(self):
        (a, b) = self.run_json("look", SHEET, ORBIT[0])
        self.assertEqual((a["format"], b["format"]), ("GeoTIFF", "HGT"))
        self.assertEqual((a["date"], a["survey"]), ("2022-03-14", "Marrowick ground 2022"))
        self.assertEqual(b["pixel_is_point"], True)
        self.assertAlmostEqual(b["ground_spacing_m"][0] / b["ground_spacing_m"][1], 0.797, 2)

    def test_check_names_what_is_wrong(self):
        j = json.loads(self.run_tool("check", SHEET, "--json", "-o", "f.geojson", status=1).stdout)
        codes = {f["code"] for f in j["findings"]}
        self.assertIn("spike", codes)
        z, geo = self.read_raster(SHEET)
        row, col = numpy.unravel_index(numpy.nanargmax(z), z.shape)
        x, y = geo["ModelTiepoint"][3] + col + 0.5, geo["ModelTiepoint"][4] - row - 0.5
        self.assertEqual(j["statistics"][0]["highest_at"], [x, y])
        places = json.load(open(self.path("f.geojson")))
        self.assertIn("spike", {f["properties"]["code"] for f in places["features"]})
        clean = os.path.join(DEMO, "reference", "truth.tif")
        self.run_tool("check", clean)
        self.assertIn("offset", self.run_tool("check", SHEET, os.path.join(DEMO, "ground-2016", "ground_se.tif"), status=1).stdout)

    def test_transform_against_cs2cs(self):
        """Where an output cell lies is what PROJ's own tool says."""
        r = self.run_json("reproject", SHEET, "--crs", "EPSG:4326", "-o", "d.tif")
        corner = f"{r['bounds'][3]} {r['bounds'][0]}\n"
        said = subprocess.run(["cs2cs", "EPSG:4326", "EPSG:32725", "-f", "%.4f"], input=corner, capture_output=True, text=True, check=True).stdout.split()
        self.assertAlmostEqual(float(said[0]), 677500, delta=20)
        self.assertAlmostEqual(float(said[1]), 5841600, delta=20)

    def test_products_say_how_sure_they_are(self):
        """Slope by numpy with noise of the stated size; the chance by the error function; zones by their cells."""
        stated = ("--uncertainty", "0.2m", "--error-reach", "0m")
        self.run_tool("slope", SHEET, "--as", "ratio", "--uncertainty", "0.03m", *stated[2:], "-o", "slope.tif")
        self.run_tool("clip", "slope.tif", "--band", "uncertainty", "-o", "sure.tif")
        sure = self.read_raster(self.path("sure.tif"))[0]
        z = self.read_raster(SHEET)[0].astype("f8")
        inner = numpy.index_exp[160:240, 250:450]
        random, errors = numpy.random.default_rng(5), []

        def steepness(z):
            p = (z[:-2, 2:] + 2 * z[1:-1, 2:] + z[2:, 2:]) - (z[:-2, :-2] + 2 * z[1:-1, :-2] + z[2:, :-2])
            q = (z[:-2, :-2] + 2 * z[:-2, 1:-1] + z[:-2, 2:]) - (z[2:, :-2] + 2 * z[2:, 1:-1] + z[2:, 2:])
            return numpy.hypot(p, q) / 8

        for _ in range(60):
            noisy = z + random.normal(0, 0.03, z.shape)
            errors.append((steepness(noisy) - steepness(z))[inner])
        spread = numpy.sqrt(numpy.mean(numpy.square(errors), axis=0))
        ratio = spread / sure[1:-1, 1:-1][inner]
        self.assertAlmostEqual(float(numpy.nanmedian(ratio)), 1, delta=0.06)

        self.run_tool("inundation", SHEET, "--level", "20m", "--chance", *stated, "-o", "chance.tif")
        chance = self.read_raster(self.path("chance.tif"))[0]
        row = z[200, ::50]
        expected = [50 * (1 + math.erf((20 - h) / 0.2 / math.sqrt(2))) for h in row]
        numpy.testing.assert_allclose(chance[200, ::50], expected, atol=1e-3)

        self.run_tool("contours", SHEET, "--levels", "20m", "--zones", *stated, "-o", "zone.gpkg")
        with sqlite3.connect(self.path("zone.gpkg")) as db:
            self.assertEqual(db.execute("SELECT level, unit, confidence FROM zones").fetchone(), (20, "m", 95))
        said = self.run_json("clip", SHEET, "--area", "zone.gpkg", "-o", "in_zone.tif")
        zone = self.read_raster(self.path("in_zone.tif"))[0]
        self.assertEqual(int((numpy.abs(z - 20) <= 1.96 * 0.2).sum()), int((~numpy.isnan(zone)).sum()), said["range"])
        for words, why in (
            (("contours", SHEET, "--interval", "5m", "--zones"), "how sure"),
            (("contours", SHEET, "--interval", "5m", *stated), "--zones"),
            (("contours", SHEET, "--interval", "1mm", "--zones", *stated), "zones of more than"),
            (("inundation", SHEET, "--level", "3m", "--chance", "--all", *stated), "each cell"),
        ):
            self.assertIn(why, self.refused(*words, "-o", "no.gpkg", status=3 if "1mm" in words else 2), words)


class Products(ToolTest):
    def test_slope_and_hillshade_against_numpy(self):
        self.run_tool("slope", SHEET, "-o", "s.tif", "--as", "percent")
        self.run_tool("hillshade", SHEET, "-o", "h.tif", "--azimuth", "300deg", "--altitude", "35deg", "--exaggerate", "2")
        z, _ = self.read_raster(SHEET)
        s, _ = self.read_raster(self.path("s.tif"))
        h, _ = self.read_raster(self.path("h.tif"))
        n = {(i, j): z[1 + j : z.shape[0] - 1 + j, 1 + i : z.shape[1] - 1 + i] for i in (-1, 0, 1) for j in (-1, 0, 1)}
        spacing = self.run_json("look", SHEET)[0]["ground_spacing_m"]
        p = ((n[1, -1] + 2 * n[1, 0] + n[1, 1]) - (n[-1, -1] + 2 * n[-1, 0] + n[-1, 1])) / 8 / spacing[0]
        q = ((n[-1, -1] + 2 * n[0, -1] + n[1, -1]) - (n[-1, 1] + 2 * n[0, 1] + n[1, 1])) / 8 / spacing[1]
        whole = ~numpy.isnan(p + q + n[0, 0])
        inner = (slice(1, -1), slice(1, -1))
        self.assertLess(numpy.abs(s[inner] - 100 * numpy.hypot(p, q))[whole].max(), 0.05)
        az, alt = numpy.radians(300), numpy.radians(35)
        p, q = 2 * p, 2 * q
        light = (numpy.sin(alt) - numpy.cos(alt) * (p * numpy.sin(az) + q * numpy.cos(az))) / numpy.sqrt(1 + p * p + q * q)
        expected = numpy.round(1 + 254 * numpy.clip(light, 0, None))
        self.assertLessEqual(numpy.abs(h[inner] - expected)[whole].max(), 1)
        self.assertTrue((numpy.isnan(h) == numpy.isnan(z)).all(), "a product loses no edge")

    def test_contours_against_contourpy(self):
        import contourpy

        self.run_tool("clip", SHEET, "--area", "box:677520,5841450,677640,5841560@EPSG:32725", "-o", "c.tif")
        self.run_tool("contours", "c.tif", "--interval", "1m", "-o", "c.gpkg")
        z, geo = self.read_raster(self.path("c.tif"))
        west, north = geo["ModelTiepoint"][3], geo["ModelTiepoint"][4]
        x, y = west + 0.5 + numpy.arange(z.shape[1]), north - 0.5 - numpy.arange(z.shape[0])
        generator = contourpy.contour_generator(x, y, numpy.ma.masked_invalid(z), name="serial", corner_mask=False)
        database = sqlite3.connect(self.path("c.gpkg"))
        ours = {}
        for blob, level in database.execute("SELECT geom, level FROM contours"):
            count = int.from_bytes(blob[13:17], "little")
            points = numpy.frombuffer(blob[17:], dtype="<f8").reshape(count, 2)
            ours[level] = ours.get(level, 0) + numpy.hypot(*numpy.diff(points, axis=0).T).sum()
        self.assertGreater(len(ours), 10)
        # A saddle may be cut the other way: lengths may differ by one cell's worth there.
        for level, length in ours.items():
            theirs = sum(numpy.hypot(*numpy.diff(line, axis=0).T).sum() for line in generator.lines(level))
            self.assertAlmostEqual(length, theirs, delta=0.002 * theirs + 1, msg=f"level {level}")
        srs = database.execute("SELECT srs_id FROM gpkg_geometry_columns").fetchone()[0]
        self.assertEqual(srs, 32725)
        self.assertEqual(database.execute("PRAGMA integrity_check").fetchone()[0], "ok")

    def test_contours_in_feet_say_feet(self):
        feet = os.path.join(DEMO, "ground-2022", "sheet_b1.tif")
        j = self.run_json("contours", feet, "--interval", "10ft", "-o", "c.geojson")
        self.assertEqual((j["interval"], j["unit"]), (10, "ft"))
        lines = json.load(open(self.path("c.geojson")))["features"]
        self.assertTrue(all(f["properties"]["level"] % 10 == 0 and f["properties"]["unit"] == "ft" for f in lines))
        self.assertTrue(all(f["properties"]["index"] == (f["properties"]["level"] % 50 == 0) for f in lines))
        self.assertTrue(all(-32 < p[0] < -30 for f in lines[:20] for p in f["geometry"]["coordinates"]))
        bare = self.run_json("contours", feet, "--interval", "10", "-o", "d.geojson")
        self.assertTrue(any("taken for 10 ft" in n for n in bare["notes"]))

    def test_section_as_table_and_graphs(self):
        line = os.path.join(DEMO, "transect.geojson")
        truth = os.path.join(DEMO, "reference", "truth.tif")
        j = self.run_json("section", truth, "--line", line, "-o", "s.csv")
        rows = list(csv.DictReader(open(self.path("s.csv"))))
        self.assertEqual(list(rows[0]), ["distance", "x", "y", "value", "slope"])
        self.assertEqual(len(rows), j["points"])
        self.assertAlmostEqual(float(rows[-1]["distance"]), j["length"], 3)
        for name, magic in (("s.png", b"\x89PNG"), ("s.svg", b"<?xml"), ("s.pdf", b"%PDF")):
            self.run_tool("section", truth, "--line", line, "-o", name)
            self.assertTrue(open(self.path(name), "rb").read().startswith(magic))
        width = int.from_bytes(open(self.path("s.png"), "rb").read()[16:20], "big")
        self.assertGreaterEqual(width, 1280)
        by_points = self.run_json("section", truth, "--from", "677560,5841180", "--to", "-30.9889,-37.5559@EPSG:4326", "-o", "p.csv")
        self.assertGreater(by_points["length"], 100)
        by_bearing = self.run_json("section", truth, "--from", "677560,5841180", "--bearing", "45deg", "--length", "200m", "-o", "b.csv")
        self.assertAlmostEqual(by_bearing["length"], 200, 3)

    def test_sample_at_control_points(self):
        truth = os.path.join(DEMO, "reference", "truth.tif")
        j = self.run_json("sample", truth, "--points", os.path.join(DEMO, "control.csv"))
        self.assertEqual(j["residuals"]["count"], 40)
        self.assertLess(j["residuals"]["rmse"], 0.03)
        text = self.run_tool("sample", truth, "--at", "677600.5,5841300.5", "--at", "-30.9889,-37.5559@EPSG:4326", "--at", "0,0").stdout
        rows = list(csv.DictReader(io.StringIO(text)))
        z, geo = self.read_raster(truth)
        col, row = int(677600.5 - geo["ModelTiepoint"][3]), int(geo["ModelTiepoint"][4] - 5841300.5)
        self.assertAlmostEqual(float(rows[0]["value"]), z[row, col], 3)
        self.assertNotEqual(rows[1]["value"], "")
        self.assertEqual(rows[2]["value"], "")

    def test_map_with_everything_on_it(self):
        self.run_tool("find", "--in", DEMO, "--area", AREA, "-o", "s.geojson")
        for name in ("m.png", "m.pdf", "m.svg"):
            j = self.run_json("map", SHEET, "-o", name, "--contours", "5m", "--area", AREA, "--line", os.path.join(DEMO, "transect.geojson"), "--points", os.path.join(DEMO, "control.csv"), "--tiles", "s.geojson", "--title", "Everything")
            self.assertEqual(j["width"], 1600)
            self.assertGreater(os.path.getsize(self.path(name)), 20000)

    def test_study_plan_writes_nothing(self):
        j = self.run_json("study", os.path.join(DEMO, "study.toml"), "--dry-run")
        self.assertEqual(j["covered_fraction"], 1)
        self.assertEqual(j["cells"], 980 * 910)
        self.assertEqual(self.files(), [])

    def test_demo_copies_and_runs(self):
        out = self.run_tool("demo", "isle").stdout
        for page in ("report", "view", "coverage"):
            self.assertIn(f"isle/out/{page}.html", out)
        self.assertIn("RMSE", out)
        self.assertTrue(os.path.getsize(self.path("isle/out/report.html")) > 100000)
        self.assertEqual(self.run_tool("demo", "isle", status=4).stdout, "")


if __name__ == "__main__":
    main()

"""check, compare, correct and statistics on the demo's data, against numpy and other programs."""
import csv
import json
import os
import sqlite3
import struct
import subprocess
import unittest

import numpy

from tool import DEMO, TOOL, ToolTest, main

TRUTH = os.path.join(DEMO, "reference", "truth.tif")
NEW = os.path.join(DEMO, "ground-2022", "sheet_b1.tif")
OLD = os.path.join(DEMO, "ground-2016", "ground_ne.tif")
SHORE = os.path.join(DEMO, "soundings-2021", "shore.csv")
CONTROL = os.path.join(DEMO, "control.csv")


def findings_of(report, *severities):
    return {(f["code"], f["file"]) for f in report["findings"] if f["severity"] in severities}


class Check(ToolTest):
    def test_each_planted_flaw_is_named(self):
        folders = [os.path.join(DEMO, f) for f in ("ground-2022", "ground-2016", "coast-2014", "sonar-2019", "orbit-2000")]
        r = self.run_json("check", *folders, status=1)
        found = findings_of(r, "failure", "warning") - {f for f in findings_of(r, "failure") if f[0] == "voids"}
        expected = {
            ("spike", "sheet_b2.tif"),
            ("stripe", "sheet_a2.tif"),
            ("no-crs", "sheet_c1.tif"),
            ("mixed-units", "sheet_b1.tif"),
            ("damaged", "ground_nw.tif"),
            ("offset", "Marrowick ground 2022"),
            ("datum", "Marrowick coast 2014"),
            ("datum", "Marrowick ground 2016"),
            ("datum", "Marrowick ground 2022"),
        }
        self.assertEqual(found, expected)
        spike = next(f for f in r["findings"] if f["code"] == "spike")
        self.assertAlmostEqual(spike["measure"], 35, delta=0.2)
        west, south, east, north = spike["place"]["boxes"][0]
        self.assertEqual([(west + east) / 2, (south + north) / 2, spike["place"]["crs"]], [677663.5, 5841521.5, "EPSG:32725"])

    def test_the_clean_twin_raises_nothing(self):
        maker = os.path.join(os.path.dirname(TOOL), "make_demo")
        subprocess.run([maker, "--clean", self.path("clean")], check=True, timeout=240)
        folders = [self.path(f"clean/{f}") for f in ("ground-2022", "ground-2016", "coast-2014", "sonar-2019", "orbit-2000", "reference")]
        r = self.run_json("check", *folders, "--stream", os.path.join(DEMO, "gazetteer.geojson"))
        self.assertEqual(findings_of(r, "failure", "warning"), set())

    def test_profiles_and_thresholds(self):
        sheet = os.path.join(DEMO, "ground-2022", "sheet_a2.tif")
        stripes = lambda *words: any(f["code"] == "stripe" for f in self.run_json("check", sheet, *words, status=1)["findings"])
        self.assertTrue(stripes())
        self.assertFalse(stripes("--threshold", "stripe=0.5m"))
        quick = self.run_tool("check", sheet, "--profile", "quick")
        self.assertNotIn("stripe", quick.stdout)
        table = self.run_tool("check", "--thresholds", "--profile", "navigation").stdout
        self.assertIn("spike             0.25 m", table)
        self.assertIn("'stripy' is not a threshold", self.run_tool("check", sheet, "--threshold", "stripy=1", status=2).stderr)
        self.assertIn("is not a profile", self.run_tool("check", sheet, "--profile", "strict", status=2).stderr)

    def test_findings_for_maps(self):
        sheet = os.path.join(DEMO, "ground-2022", "sheet_b2.tif")
        self.assertIn("wrote    f.geojson", self.run_tool("check", sheet, "-o", "f.geojson", status=1).stdout)
        spike = next(f for f in json.load(open(self.path("f.geojson")))["features"] if f["properties"]["code"] == "spike")
        lon, lat = numpy.mean(spike["geometry"]["coordinates"][0][0][:4], axis=0)
        x, y = self.to_utm(lon, lat)
        self.assertAlmostEqual(x, 677663.5, delta=0.6)
        self.assertAlmostEqual(y, 5841521.5, delta=0.6)
        self.run_tool("check", sheet, "-o", "f.gpkg", status=1)
        with sqlite3.connect(self.path("f.gpkg")) as db:
            self.assertEqual(db.execute("select count(*) from findings where code = 'spike'").fetchone(), (1,))

    def test_one_that_cannot_be_opened_does_not_hide_the_others(self):
        sheet = os.path.join(DEMO, "ground-2022", "sheet_b2.tif")
        with open(self.path("half.tif"), "wb") as half:
            half.write(open(sheet, "rb").read(100))
        self.assertIn("half.tif", self.run_tool("check", "half.tif", status=3).stderr)
        r = self.run_json("check", "half.tif", sheet, status=1)
        self.assertLessEqual({("damaged", "half.tif"), ("spike", "sheet_b2.tif")}, findings_of(r, "failure"))

    def to_utm(self, lon, lat):
        done = subprocess.run(["cs2cs", "-f", "%.3f", "EPSG:4326", "EPSG:32725"], input=f"{lat} {lon}\n", capture_output=True, text=True, check=True)
        return [float(v) for v in done.stdout.split()[:2]]

    def test_points_against_their_nominal_density(self):
        cloud = os.path.join(DEMO, "lidar-2022", "lidar_nw.laz")
        r = self.run_json("check", cloud, "--density", 12, status=1)
        self.assertIn("sparse", {f["code"] for f in r["findings"]})
        self.assertNotIn("sparse", {f["code"] for f in json.loads(subprocess.run([TOOL, "check", cloud, "--density", "0.4", "--json"], capture_output=True, text=True).stdout)["findings"]})


class Control(ToolTest):
    def rows(self):
        return list(csv.DictReader(open(CONTROL)))

    def test_residuals_are_numpys(self):
        r = self.run_json("check", TRUTH, "--control", CONTROL, "--residuals", "r.csv")["control"]
        d = numpy.array([p["residual"] for p in r["residuals"]])
        self.assertEqual(len(d), 40)
        median = numpy.median(d)
        for key, value in {
            "mean": d.mean(),
            "deviation": d.std(ddof=1),
            "rmse": numpy.sqrt((d**2).mean()),
            "median": median,
            "nmad": 1.4826 * numpy.median(abs(d - median)),
            "q683": numpy.quantile(abs(d), 0.683),
            "q95": numpy.quantile(abs(d), 0.95),
        }.items():
            self.assertAlmostEqual(r["open"][key], value, delta=1e-9 * abs(value) + 1e-12, msg=key)
        self.assertEqual(r["asprs_2023"]["class_cm"], 2.5)
        self.assertTrue(r["asprs_2023"]["enough"])
        table = list(csv.DictReader(open(self.path("r.csv"))))
        self.assertEqual([round(float(t["residual"]), 4) for t in table], [round(x, 4) for x in d])

    def test_every_kind_of_file_gives_the_same(self):
        """CSV, GPX, GeoJSON and GeoPackage with the same points; the last with z in the geometry."""
        rows = self.rows()
        lonlat = subprocess.run(["cs2cs", "-f", "%.10f", "EPSG:32725", "EPSG:4326"], input="".join(f"{p['x']} {p['y']}\n" for p in rows), capture_output=True, text=True, check=True).stdout.split("\n")
        places = [(float(l.split()[1]), float(l.split()[0])) for l in lonlat if l]
        with open(self.path("c.gpx"), "w") as f:
            f.write('<?xml version="1.0"?><gpx version="1.1" creator="test" xmlns="http://www.topografix.com/GPX/1/1">')
            for p, (lon, lat) in zip(rows, places):
                f.write(f'<wpt lat="{lat:.10f}" lon="{lon:.10f}"><ele>{p["z"]}</ele><name>{p["name"]}</name></wpt>')
            f.write("</gpx>")
        features = [{"type": "Feature", "properties": {"name": p["name"]}, "geometry": {"type": "Point", "coordinates": [lon, lat, float(p["z"])]}} for p, (lon, lat) in zip(rows, places)]
        json.dump({"type": "FeatureCollection", "features": features}, open(self.path("c.geojson"), "w"))
        self.geopackage(self.path("c.gpkg"), rows)
        expected = self.run_json("check", TRUTH, "--control", CONTROL)["control"]["open"]
        for name in ("c.gpx", "c.geojson", "c.gpkg"):
            got = self.run_json("check", TRUTH, "--control", name)["control"]["open"]
            for key in ("mean", "rmse", "nmad"):
                self.assertAlmostEqual(got[key], expected[key], delta=2e-4, msg=name)

    def geopackage(self, path, rows):
        with sqlite3.connect(path) as db:
            db.executescript(
                """create table gpkg_spatial_ref_sys(srs_name text, srs_id integer primary key, organization text, organization_coordsys_id integer, definition text, description text);
                insert into gpkg_spatial_ref_sys values('utm', 32725, 'EPSG', 32725, 'undefined', '');
                create table gpkg_contents(table_name text primary key, data_type text, identifier text, description text, last_change text, min_x double, min_y double, max_x double, max_y double, srs_id integer);
                insert into gpkg_contents values('control', 'features', 'control', '', '', 0, 0, 0, 0, 32725);
                create table gpkg_geometry_columns(table_name text, column_name text, geometry_type_name text, srs_id integer, z tinyint, m tinyint);
                insert into gpkg_geometry_columns values('control', 'geom', 'POINT', 32725, 1, 0);
                create table control(fid integer primary key, geom blob, name text);"""
            )
            for p in rows:
                blob = b"GP\x00\x01" + struct.pack("<i", 32725) + struct.pack("<BIddd", 1, 1001, float(p["x"]), float(p["y"]), float(p["z"]))
                db.execute("insert into control(geom, name) values(?, ?)", (blob, p["name"]))

    def test_outliers_ground_cover_and_units(self):
        rows = self.rows()
        with open(self.path("c.csv"), "w") as f:
            f.write("name,x,y,z,cover\n")
            for i, p in enumerate(rows):
                z = float(p["z"]) / 0.3048 + (3 if i == 7 else 0)
                f.write(f"{p['name']},{p['x']},{p['y']},{z:.4f},{'forest' if i >= 30 else 'open'}\n")
        r = self.run_json("check", TRUTH, "--control", "c.csv", "--control-unit", "ft", "--control-error", "0.02m", "--figure", "f.png")["control"]
        self.assertEqual((r["open"]["count"], r["vegetated"]["count"]), (30, 10))
        self.assertEqual([p["name"] for p in r["residuals"] if p["outlier"]], [rows[7]["name"]])
        self.assertGreater(r["asprs_2023"]["rmse_m"], r["open"]["rmse"])
        self.assertGreater(os.path.getsize(self.path("f.png")), 50000)
        text = self.run_tool("check", TRUTH, "--control", "c.csv", "--control-unit", "ft").stdout
        self.assertIn(f"outlier {rows[7]['name']} (open): -0.8", text)
        self.assertIn("one surface", self.run_tool("check", TRUTH, NEW, "--control", CONTROL, status=2).stderr)


class Compare(ToolTest):
    def test_difference_statistics_are_numpys(self):
        self.run_tool("clip", TRUTH, "--area", "box:677400,5841100,677911,5841577@EPSG:32725", "-o", "t.tif")
        r = self.run_json("compare", os.path.join(DEMO, "ground-2022", "sheet_b2.tif"), "t.tif", "-o", "d.tif")
        d, _ = self.read_raster(self.path("d.tif"))
        d = d[~numpy.isnan(d)].astype(numpy.float64)
        s = r["difference"]
        self.assertEqual(s["count"], d.size)
        for key, value in {"mean": d.mean(), "deviation": d.std(ddof=1), "rmse": numpy.sqrt((d**2).mean()), "lowest": d.min(), "highest": d.max()}.items():
            self.assertAlmostEqual(s[key], value, delta=1e-9 * abs(value), msg=key)
        median = numpy.median(d)
        for key, value in {"median": median, "nmad": 1.4826 * numpy.median(abs(d - median)), "q683": numpy.quantile(abs(d), 0.683), "q95": numpy.quantile(abs(d), 0.95)}.items():
            self.assertAlmostEqual(s[key], value, delta=abs(value) / 1000 + 0.0004, msg=key)
        self.assertAlmostEqual(sum(r["histogram"]["cells"]), d.size * 0.99, delta=d.size * 0.006)
        self.assertAlmostEqual(r["worst"][0]["difference"], 35, delta=0.2)
        self.assertEqual((r["worst"][0]["x"], r["worst"][0]["y"]), (677663.5, 5841521.5))
        volume = r["volume"]
        self.assertAlmostEqual(volume["net_m3"], d.sum() * volume["area_m2"] / d.size, delta=1e-5 * volume["above_m3"])

    def test_shift_and_tilt_on_the_demo(self):
        """The truth, moved and tilted by known amounts: found to 0.02 cell and 1e-5, and taken out again."""
        self.run_tool("correct", TRUTH, "--move", "0.37,-0.62", "--tilt", "0.0002,-0.0001", "--offset", "0.4m", "-o", "moved.tif")
        r = self.run_json("compare", NEW, "moved.tif", "--unit", "m", "--corrected", "back.tif", "--map", "d.png", "--histogram", "h.png", "--worst", "w.geojson")
        c = r["coregistration"]
        self.assertAlmostEqual(c["cells"][0], -0.37, delta=0.02)
        self.assertAlmostEqual(c["cells"][1], 0.62, delta=0.02)
        self.assertAlmostEqual(c["tilt"][0], -0.0002, delta=1e-5)
        self.assertAlmostEqual(c["tilt"][1], 0.0001, delta=1e-5)
        after = self.run_json("compare", NEW, "back.tif", "--unit", "m")
        self.assertLess(abs(after["difference"]["median"]), 0.005)
        self.assertLess(after["difference"]["nmad"], 0.035)
        self.assertLess(numpy.hypot(*after["coregistration"]["cells"]), 0.02)
        for name in r["written"]:
            self.assertGreater(os.path.getsize(self.path(name)), 500)
        self.assertEqual(len(json.load(open(self.path("w.geojson")))["features"]), 12)
        # What compare found, correct applies.
        json.dump(r, open(self.path("found.json"), "w"))
        by = self.run_json("correct", "moved.tif", "--by", "found.json", "-o", "by.tif")
        self.assertTrue(any("moved by" in n for n in by["notes"]))
        a, b = self.read_raster(self.path("back.tif")), self.read_raster(self.path("by.tif"))
        self.assertTrue(numpy.array_equal(a[0], b[0], equal_nan=True))
        lineage = open(self.path("by.lineage.csv")).read()
        self.assertIn("corrected: moved by", lineage)

    def test_change_and_classes(self):
        r = self.run_json("compare", NEW, OLD, "--unit", "m", "--uncertainty-first", "0.03m", "--uncertainty-second", "0.08m", "--no-shift", "--slopes", "10,20")
        self.assertAlmostEqual(r["detection"]["level"], 1.96 * numpy.hypot(0.03, 0.08), places=9)
        self.assertAlmostEqual(r["difference"]["median"], -0.18, delta=0.003)
        self.assertEqual([c["name"] for c in r["classes"] if c["of"] == "slope"], ["below 10 degrees", "10 to 20 degrees", "20 degrees and more"])
        self.assertEqual(sum(c["difference"]["count"] for c in r["classes"] if c["of"] == "slope"), r["difference"]["count"])
        self.assertNotIn("coregistration", r)
        self.assertLess(r["volume"]["uncertainty_m3"], abs(r["volume"]["net_m3"]) / 50)

    def test_uncertainties_by_place(self):
        self.run_tool("grid", SHORE, "--depths", "--shift", "-0.62m", "--heights", "EGM2008", "--method", "natural", "--cell", "2m", "--longest-edge", "16m",
                      "--surface", "sea-floor", "--uncertainty", "u.tif", "-o", "s.tif")
        r = self.run_json("compare", "s.tif", TRUTH, "--uncertainty-first", "u.tif", "--uncertainty-second", "0.1m", "--confidence", "95", "--no-shift", "-o", "d.tif")
        d, u = self.read_raster(self.path("d.tif"))[0], self.read_raster(self.path("u.tif"))[0]
        # The truth ends before the soundings do.
        west, south, east, north = self.run_json("look", "u.tif")[0]["bounds"]
        col, row = round((r["bounds"][0] - west) / 2), round((north - r["bounds"][3]) / 2)
        u = u[row:row + d.shape[0], col:col + d.shape[1]]
        self.assertEqual(d.shape, u.shape)
        level = numpy.hypot(u.astype("f8"), 0.1)
        known = ~numpy.isnan(d) & ~numpy.isnan(level)
        self.assertEqual(r["detection"]["known"], known.sum())
        self.assertAlmostEqual(r["detection"]["cells"], (numpy.abs(d[known]) > level[known]).sum(), delta=2)
        self.assertAlmostEqual(r["detection"]["level"], numpy.sqrt((level[known] ** 2).mean()), places=5)
        for got, expected in zip(r["detection"]["level_range"], (level[known].min(), level[known].max())):
            self.assertAlmostEqual(got, expected, places=5)
        said = self.run_tool("compare", "s.tif", TRUTH, "--uncertainty-first", "u.tif", "--confidence", "95", "--no-shift").stdout
        self.assertRegex(said, r"change    beyond 0\.\d+ to \d\.\d+ m \(95 %\)")
        self.assertIn("68", self.run_tool("compare", "s.tif", TRUTH, "--confidence", "50", status=2).stderr)
        self.assertIn("nowhere.tif", self.run_tool("compare", "s.tif", TRUTH, "--uncertainty-first", "nowhere.tif", status=4).stderr)

    def test_the_odd_one_out(self):
        r = self.run_json("compare", NEW, OLD, TRUTH)
        self.assertEqual([s["odd"] for s in r], [False, True, False])
        self.assertAlmostEqual(r[1]["offset_m"], 0.18, delta=0.005)

    def test_what_cannot_be_compared_is_refused(self):
        coast = os.path.join(DEMO, "coast-2014", "coast.tif")
        lost = os.path.join(DEMO, "ground-2022", "sheet_c1.tif")
        self.assertIn("--crs", self.run_tool("compare", lost, TRUTH, status=3).stderr + self.run_tool("compare", lost, TRUTH, status=3).stdout)
        self.assertIn("does not overlap", self.run_tool("compare", os.path.join(DEMO, "ground-2022", "sheet_a1.tif"), os.path.join(DEMO, "ground-2016", "ground_se.tif"), status=2).stderr)
        self.assertIn("takes two surfaces", self.run_tool("compare", TRUTH, status=2).stderr)
        self.assertIn("two by two", self.run_tool("compare", NEW, OLD, TRUTH, "-o", "d.tif", status=2).stderr)
        self.assertFalse(os.path.exists(self.path("d.tif")))


class Correct(ToolTest):
    def test_offset_unit_and_spikes(self):
        o = self.run_json("correct", OLD, "--offset", "-0.18m", "-o", "o.tif")
        before, _ = self.read_raster(OLD)
        after, _ = self.read_raster(self.path("o.tif"))
        self.assertTrue(numpy.allclose(after, before - 0.18, atol=2e-5, equal_nan=True))
        self.assertTrue(any("corrected, -0.18" in n for n in o["notes"]), o["notes"])
        sheet = os.path.join(DEMO, "ground-2022", "sheet_b2.tif")
        s = self.run_json("correct", sheet, "--spikes", "-o", "s.tif")
        b, _ = self.read_raster(sheet)
        a, _ = self.read_raster(self.path("s.tif"))
        gone = numpy.argwhere(numpy.isnan(a) & ~numpy.isnan(b))
        self.assertEqual(gone.tolist(), [[78, 163]])
        self.assertEqual(s["voids"], int(numpy.isnan(a).sum()))
        self.assertIn("changes nothing", self.run_tool("correct", sheet, "-o", "n.tif", status=2).stderr)
        self.assertIn("no pair of numbers", self.run_tool("correct", sheet, "--move", "1", "-o", "n.tif", status=2).stderr)
        open(self.path("bad.json"), "w").write("{")
        self.assertIn("no correction", self.run_tool("correct", sheet, "--by", "bad.json", "-o", "n.tif", status=3).stderr)
        self.assertFalse(os.path.exists(self.path("n.tif")))


class Statistics(ToolTest):
    def test_they_are_numpys(self):
        r = self.run_json("statistics", TRUTH)
        z, _ = self.read_raster(TRUTH)
        z = z.astype(numpy.float64).ravel()
        for key, value in {"lowest": z.min(), "highest": z.max(), "mean": z.mean(), "deviation": z.std()}.items():
            self.assertAlmostEqual(r[key], value, delta=1e-9 * abs(value), msg=key)
        for q, value in r["percentiles"].items():
            expected = numpy.percentile(z, float(q))
            self.assertLess(abs(value - expected), abs(z - expected).max() / 2048)
        counts, _ = numpy.histogram(z, 50, (z.min(), z.max()))
        self.assertLess(abs(numpy.array(r["histogram"]["full"]["cells"]) - counts).max(), 0.01 * z.size)
        self.assertAlmostEqual(sum(r["histogram"]["full"]["cells"]), z.size, delta=0.5)

    def levels_and_flanks_of_polygons(self):
        """Two boxes on the lattice: what numpy sums in the same window."""
        west, _, _, north = self.run_json("look", TRUTH, "--quick")[0]["bounds"]
        ring = lambda c, r, n: [[west + x, north - y] for x, y in ((c, r), (c, r + n), (c + n, r + n), (c + n, r), (c, r))]
        feature = lambda name, c, r, n: {"type": "Feature", "properties": {"name": name}, "geometry": {"type": "Polygon", "coordinates": [ring(c, r, n)]}}
        boxes = {"north": (300, 100, 120), "south": (400, 500, 80)}
        with open(self.path("boxes.geojson"), "w") as f:
            json.dump({"type": "FeatureCollection", "crs": {"type": "name", "properties": {"name": "EPSG:32725"}}, "features": [feature(n, *b) for n, b in boxes.items()]}, f)
        r = self.run_json("statistics", TRUTH, "--polygons", "boxes.geojson", "--level", "5m", "--level", "20m", "--by-aspect", "-o", "all.csv")
        z, _ = self.read_raster(TRUTH)
        for got, (name, (c, row, n)) in zip(r["polygons"], boxes.items()):
            window = z[row : row + n, c : c + n]
            self.assertEqual(got["zone"], name)
            for level in got["levels"]:
                above = numpy.nansum(numpy.maximum(window.astype("float64") - level["level"], 0))
                self.assertAlmostEqual(level["volume_above_m3"], above, delta=1e-3 * above + 1e-6)
            self.assertEqual(sum(flank["cells"] for flank in got["flanks"]), numpy.isfinite(window).sum())
        text = open(self.path("all.csv")).read()
        tables = [t.splitlines() for t in text.split("\n\n")]
        self.assertEqual([t[0].split(",")[0] for t in tables], ["zone", "zone", "zone", "zone", "zone", "measure"])
        self.assertEqual(tables[0][1].split(",")[0], "north")
        self.assertTrue(tables[2][1].startswith("south,5,"))
        self.assertIn("p50,", tables[5][10])

    def test_levels_polygons_classes_and_aspect(self):
        z, _ = self.read_raster(TRUTH)
        r = self.run_json("statistics", TRUTH, "--level", "0m", "--level", "12.5m")
        cell = (r["levels"][0]["area_above_m2"] + r["levels"][0]["area_below_m2"]) / z.size
        self.assertAlmostEqual(cell, 1, delta=1e-3)
        for level in r["levels"]:
            above = numpy.clip(z.astype(numpy.float64) - level["level"], 0, None).sum() * cell
            self.assertAlmostEqual(level["volume_above_m3"], above, delta=1e-5 * above)
            self.assertAlmostEqual(level["area_above_m2"], (z > level["level"]).sum() * cell, delta=5)
        self.levels_and_flanks_of_polygons()
        inside = self.run_json("statistics", TRUTH, "--polygons", os.path.join(DEMO, "area.geojson"), "-o", "z.csv")["zones"][0]
        self.run_tool("clip", TRUTH, "--area", os.path.join(DEMO, "area.geojson"), "-o", "in.tif")
        part, _ = self.read_raster(self.path("in.tif"))
        self.assertEqual(inside["cells"], int((~numpy.isnan(part)).sum()))
        self.assertAlmostEqual(inside["mean"], numpy.nanmean(part.astype(numpy.float64)), places=6)
        self.assertEqual(list(csv.DictReader(open(self.path("z.csv"))))[0]["zone"], "Kessa Inlet footbridge")
        aspect = self.run_json("statistics", TRUTH, "--by-aspect", "--rose", "r.png", "--histogram", "h.png", "--curve", "c.svg")["zones"]
        self.run_tool("slope", TRUTH, "-o", "s.tif")
        self.run_tool("aspect", TRUTH, "-o", "a.tif")
        s, a = self.read_raster(self.path("s.tif"))[0], self.read_raster(self.path("a.tif"))[0]
        east = (a >= 67.5) & (a < 112.5)
        by = {zone["zone"]: zone for zone in aspect}
        self.assertEqual(by["east"]["cells"], int(east.sum()))
        self.assertAlmostEqual(by["east"]["mean"], s[east].astype(numpy.float64).mean(), places=5)
        # The slope in whole degrees, as classes.
        classes = self.run_json("statistics", TRUTH, "--classes", "s.tif")["zones"]
        whole = numpy.floor(s.astype(numpy.float64) + 0.5)
        self.assertEqual({int(k["zone"]): k["cells"] for k in classes}, {int(k): int((whole == k).sum()) for k in numpy.unique(whole)})
        for name in ("r.png", "h.png", "c.svg"):
            self.assertGreater(os.path.getsize(self.path(name)), 5000)


if __name__ == "__main__":
    main()

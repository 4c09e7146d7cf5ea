"""--sheets: a surface as many files, by one run, by several parts, and by runs that were killed."""
import json
import os
import re
import resource
import signal
import subprocess
import time

import numpy
from tool import DEMO, TOOL, ToolTest, main

TRUTH = os.path.join(DEMO, "reference", "truth.tif")
ISLAND = [os.path.join(DEMO, "ground-2022", f"sheet_{c}{n}.tif") for c in "ab" for n in (1, 2, 3)]


class Sheets(ToolTest):
    def tiffs(self, folder):
        return sorted(f for f in os.listdir(self.path(folder)) if f.endswith(".tif") and ".lineage." not in f)

    def times(self, folder):
        return {f: os.stat(self.path(os.path.join(folder, f))).st_mtime_ns for f in self.tiffs(folder)}

    def contents(self, folder):
        out = {}
        for f in self.files():
            if f.startswith(self.path(folder) + "/"):
                with open(f, "rb") as file:
                    out[os.path.relpath(f, self.path(folder))] = file.read()
        return out

    def test_several_products(self):
        self.run_tool("slope", TRUTH, "-o", "one/slope.tif", "--sheets", "300m")
        said = self.run_json("derive", TRUTH, "slope", "hillshade:altitude=30deg", "-o", "all", "--sheets", "300m", "--part", "1/2")
        self.assertEqual([f["missing"] > 0 for f in said["files"]], [True, True])
        text = self.run_tool("derive", TRUTH, "slope", "hillshade:altitude=30deg", "-o", "all", "--sheets", "300m", "--part", "2/2").stdout
        for name in ("slope", "hillshade-30deg"):
            self.assertIn(f"all/{name}/{name}.sheets.geojson", text)
        self.assertEqual({f: b for f, b in self.contents("all/slope").items() if f.endswith(".tif")},
                         {f: b for f, b in self.contents("one").items() if f.endswith(".tif")})
        # What is derived beside it, and in which order, does not make a product another one.
        before = self.times("all/slope")
        said = self.run_json("derive", TRUTH, "aspect", "slope", "-o", "all", "--sheets", "300m")
        self.assertEqual([f["whole_already"] > 0 for f in said["files"]], [False, True])
        self.assertEqual(self.times("all/slope"), before)
        self.run_tool("derive", TRUTH, "slope:as=percent", "curvature", "-o", "all", "--sheets", "300m", "--dry-run")
        self.assertEqual(sorted(os.listdir(self.path("all"))), ["aspect", "hillshade-30deg", "slope"])
        self.assertIn("--sheets", self.refused("derive", TRUTH, "slope", "-o", "all", "--part", "1/2", status=2))
        # Sheets of the second that were made of something else: the first is not begun.
        self.assertIn("--overwrite", self.refused("derive", ISLAND[0], "curvature", "slope", "-o", "all", "--sheets", "300m", status=4))

    def test_more_of_them_than_the_system_lets_be_open(self):
        made = self.run_json("clip", ISLAND[0], "-o", "s/ground.tif", "--sheets", "20m")["made"]
        self.assertGreater(made, 300)

        def few():
            resource.setrlimit(resource.RLIMIT_NOFILE, (128, resource.getrlimit(resource.RLIMIT_NOFILE)[1]))

        tiles = sorted(self.path("s/" + f) for f in self.tiffs("s"))
        for inputs in (["s/ground.sheets.geojson"], tiles):
            p = subprocess.run([TOOL, "mosaic", *inputs, "-o", "out.tif", "--overwrite", "--quiet"], cwd=self.folder,
                               capture_output=True, text=True, preexec_fn=few, check=False)
            self.assertEqual(p.returncode, 0, p.stderr)
            out, _ = self.read_raster(self.path("out.tif"))
            ground, _ = self.read_raster(ISLAND[0])
            numpy.testing.assert_array_equal(out, ground)

    def test_they_are_the_surface(self):
        self.run_tool("mosaic", *ISLAND, "-o", "whole.tif")
        told = self.run_json("mosaic", *ISLAND, "-o", "s/ground.tif", "--sheets", "260m")
        whole, geo = self.read_raster(self.path("whole.tif"))
        west, north = geo["ModelTiepoint"][3:5]
        seen = numpy.zeros(whole.shape, int)
        names = self.tiffs("s")
        self.assertEqual(len(names), told["made"] - told["without_value"])
        for name in names:
            part, place = self.read_raster(self.path("s/" + name))
            col, row = round(place["ModelTiepoint"][3] - west), round(north - place["ModelTiepoint"][4])
            here = (slice(row, row + part.shape[0]), slice(col, col + part.shape[1]))
            numpy.testing.assert_array_equal(part, whole[here])
            seen[here] += 1
            column, line = name[:-4].split("_")[1:]
            self.assertEqual(column, f"e{int((west + col) // 260)}")
            self.assertEqual(line, f"n{int((north - row - 1) // 260)}")
        self.assertLessEqual(seen.max(), 1)
        # What has no sheet has no value.
        self.assertTrue(numpy.isnan(whole[seen == 0]).all())
        self.assertEqual(told["voids"], int(numpy.isnan(whole).sum()))
        self.assertEqual(told["cells"], whole.size)
        with open(self.path("s/ground.sheets.geojson")) as f:
            features = json.load(f)["features"]
        self.assertEqual(sorted(x["properties"]["path"] for x in features), names)
        # The index is a list of tiles from any folder; so is the catalogue.
        self.run_tool("mosaic", "s/ground.sheets.geojson", "-o", "again.tif")
        again, _ = self.read_raster(self.path("again.tif"))
        numpy.testing.assert_array_equal(again[~numpy.isnan(again)], whole[~numpy.isnan(whole)])
        for place in ("s", "s/ground.sheets/collection.json"):
            found = self.run_json("find", "--in", place, "--area", "like:whole.tif")
            self.assertEqual(len(found["tiles"]), len(names), place)
            self.assertTrue(all(t["kept"] for t in found["tiles"]), place)

    def test_what_is_whole_is_not_made_again(self):
        words = ["slope", TRUTH, "-o", "s/slope.tif", "--sheets", "300m"]
        first = self.run_json(*words)
        before = self.times("s")
        again = self.run_json(*words, "--threads", "1", "--memory", "64M")
        self.assertEqual((again["made"], again["whole_already"]), (0, first["made"]))
        self.assertEqual(self.times("s"), before)
        gone = self.tiffs("s")[1]
        os.unlink(self.path("s/" + gone))
        self.assertEqual(self.run_json(*words)["made"], 1)
        # Other settings, or an input that has changed, make other sheets; those that are there are not lost to them.
        for other in (["--as", "percent"], ["--void", "-1"], ["--unit", "ft"]):
            self.assertIn("made from something else", self.refused(*words, *other, status=4))
        self.run_tool("clip", TRUTH, "-o", "ground.tif")
        words[1] = "ground.tif"
        self.refused(*words, status=4)
        self.assertEqual(self.run_json(*words, "--overwrite")["made"], first["made"])
        os.utime(self.path("ground.tif"), (1e9, 1e9))
        self.refused(*words, status=4)
        self.assertEqual(self.run_json(*words, "--overwrite")["made"], first["made"])
        self.assertEqual(self.run_json(*words, "--overwrite")["made"], 0)

    def test_parts_come_together(self):
        words = ["reproject", TRUTH, "--crs", "EPSG:32724", "--cell", "1m", "--sheets", "200m"]
        self.run_tool(*words, "-o", "one/g.tif")
        jobs = [subprocess.Popen([TOOL, *words, "-o", "parts/g.tif", "--part", f"{k}/3", "--json"], stdout=subprocess.PIPE, cwd=self.folder, env=self.environment) for k in (1, 2, 3)]
        told = [json.loads(j.communicate(timeout=240)[0]) for j in jobs]
        self.assertEqual([j.returncode for j in jobs], [0, 0, 0])
        one, parts = self.contents("one"), self.contents("parts")
        self.assertEqual(sum(t["made"] for t in told), len([f for f in one if f.startswith("g.sheets/")]) - 1)
        one.pop("survey.toml")
        parts.pop("survey.toml", None)
        self.assertEqual(sorted(one), sorted(parts))
        self.assertEqual(one, parts)
        # One of them found all whole.
        self.assertIn(0, [t["missing"] for t in told])

    def test_a_run_that_was_killed_goes_on(self):
        words = ["reproject", TRUTH, "--crs", "EPSG:32724", "--cell", "0.25m", "--sheets", "100m", "-o", "s/g.tif", "--threads", "1"]
        job = subprocess.Popen([TOOL, *words], stdout=subprocess.DEVNULL, cwd=self.folder, env=self.environment)
        for _ in range(2000):
            if os.path.isdir(self.path("s")) and len(self.tiffs("s")) >= 3:
                break
            time.sleep(0.005)
        job.send_signal(signal.SIGKILL)
        job.wait()
        before = self.times("s")
        self.assertGreaterEqual(len(before), 3)
        self.assertNotIn(self.path("s/g.sheets.geojson"), self.files())
        told = self.run_json(*words)
        after = self.times("s")
        # All that it had made is kept, but for one that had its name and no record yet.
        kept = [f for f in before if after[f] == before[f]]
        self.assertGreaterEqual(len(kept), len(before) - 1)
        self.assertEqual(told["whole_already"], len(kept))
        self.assertEqual(told["missing"], 0)
        self.assertTrue(os.path.exists(told["index"]) or os.path.exists(self.path(told["index"])))
        self.assertEqual([f for f in self.files() if ".part-" in f], [])

    def test_a_study_in_sheets(self):
        study = f"""
title = "Half of an island"
[area]
box = "677200,5840900,677900,5841800@EPSG:32725"
[[source]]
folder = "{os.path.join(DEMO, 'ground-2022')}"
[frame]
sheets = "250m"
[[product]]
kind = "slope"
file = "slope.tif"
[[product]]
kind = "flow"
as = "area"
file = "flow.tif"
[[product]]
kind = "contours"
interval = "5m"
file = "lines.gpkg"
"""
        with open(self.path("sheets.toml"), "w") as f:
            f.write(study)
        with open(self.path("whole.toml"), "w") as f:
            f.write(study.replace("sheets = ", "# "))
        self.run_tool("study", "whole.toml", "-o", "whole")
        self.run_tool("study", "sheets.toml", "-o", "sheets")
        for name in ("surface", "slope", "flow"):
            self.run_tool("clip", f"sheets/{name}/{name}.sheets.geojson", "--area", f"like:whole/{name}.tif", "-o", f"{name}.tif")
            whole, parts = self.read_raster(self.path(f"whole/{name}.tif"))[0], self.read_raster(self.path(f"{name}.tif"))[0]
            numpy.testing.assert_array_equal(parts, whole, name)
        with open(self.path("sheets/run.json")) as f, open(self.path("whole/run.json")) as g:
            sheets, whole = json.load(f), json.load(g)
        for key in ("cells", "voids", "range", "lineage"):
            self.assertEqual(sheets["surface"][key], whole["surface"][key])
        for file in [sheets["surface"]["path"], *sheets["products"]]:
            self.assertTrue(os.path.isfile(self.path("sheets/" + file)), file)
        # Both reports lead to what is there.
        for run in ("sheets", "whole"):
            with open(self.path(f"{run}/report.html")) as f:
                listed = f.read().split("<h2>Files</h2>")[1].split("</ul>")[0]
            links = re.findall(r'href="([^"]+)"', listed)
            self.assertGreaterEqual(len(links), 7)
            for link in links:
                self.assertTrue(os.path.isfile(self.path(f"{run}/{link}")), f"{run}: {link}")
                self.assertNotIn("..", link)
        # A search of the folder does not take what a study made for a survey.
        self.assertEqual(self.run_json("find", "--in", "sheets", "--area", "like:whole/surface.tif")["tiles"], [])
        # Once more: nothing is made that is there; a sheet that is gone is made again.
        again = self.run_json("study", "sheets.toml", "-o", "sheets", "--overwrite")
        self.assertIn("surface/surface.sheets.geojson", again["unchanged"])
        self.assertIn("slope.tif", again["unchanged"])
        before = self.times("sheets/surface")
        gone = self.tiffs("sheets/surface")[3]
        os.unlink(self.path("sheets/surface/" + gone))
        again = self.run_json("study", "sheets.toml", "-o", "sheets", "--overwrite")
        after = self.times("sheets/surface")
        self.assertEqual([f for f in before if before[f] != after[f]], [gone])
        # The page of the run's folder shows it.
        self.run_tool("view", "sheets", "-o", "page.html")
        for bad, said in (("1m", "larger"), ("1deg", "length"), ("one", "not a length")):
            self.assertIn(said, self.run_tool("study", "sheets.toml", "-o", "bad", "--set", f"frame.sheets={bad}", "--dry-run", status=(2, 3)).stderr)

    def test_mistakes(self):
        words = ["clip", TRUTH, "-o", "s/g.tif"]
        for more, said in (
            (["--sheets", "1000"], "write a number with its unit"),
            (["--sheets", "1deg"], "say a length"),
            (["--sheets", "1m"], "make them larger"),
            (["--sheets", "-1km"], ""),
            (["--part", "1/2"], "--sheets"),
            (["--sheets", "1km", "--part", "3/2"], "second of eight"),
            (["--sheets", "1km", "--part", "2"], "second of eight"),
            (["--sheets", "1km", "--part", "1.5/2"], "second of eight"),
        ):
            self.assertIn(said, self.refused(*words, *more, status=2))
        self.assertIn("would not meet", self.refused("clip", TRUTH, "-o", "g.png", "--sheets", "1km", status=3))
        self.assertIn("would not meet", self.refused("hillshade", TRUTH, "-o", "g.png", "--sheets", "1km", status=3))
        # A plan meets the same errors.
        self.refused("clip", TRUTH, "-o", "g.png", "--sheets", "1km", "--dry-run", status=3)
        with open(self.path("bare.asc"), "w") as f:
            f.write("ncols 40\nnrows 40\nxllcorner 0\nyllcorner 0\ncellsize 1\n" + "1 " * 1600)
        for more in ([], ["--dry-run"]):
            self.assertIn("need a CRS", self.refused("clip", "bare.asc", "-o", "s/g.tif", "--sheets", "20m", *more, status=3))
        os.unlink(self.path("bare.asc"))
        self.refused("depressions", TRUTH, "-o", "g.gpkg", "--sheets", "1km", status=2)
        plan = self.run_json(*words, "--sheets", "300m", "--dry-run", "--part", "1/2")
        self.assertEqual(self.files(), [])
        made = self.run_json(*words, "--sheets", "300m", "--part", "1/2")
        self.assertEqual(made["made"], len(plan["sheets"]))
        self.assertEqual(self.tiffs("s"), sorted(f"g_{s}.tif" for s in plan["sheets"]))

    def test_every_verb_that_writes_a_grid(self):
        lidar = os.path.join(DEMO, "lidar-2022", "lidar_nw.laz")
        for words in (
            ["fill", ISLAND[0], "--largest", "20m"],
            ["correct", ISLAND[0], "--spikes"],
            ["flatten", TRUTH, "--sea", "0m"],
            ["depressions", TRUTH, "--least"],
            ["flow", TRUTH, "--as", "area"],
            ["grid", lidar, "--cell", "2m"],
            ["hillshade", TRUTH],
            ["landforms", TRUTH],
        ):
            verb = words[0]
            self.run_tool(*words, "-o", f"{verb}.tif")
            self.run_tool(*words, "-o", f"{verb}/x.tif", "--sheets", "333m")
            self.run_tool("mosaic", f"{verb}/x.sheets.geojson", "-o", f"{verb}-again.tif")
            whole, again = (self.read_raster(self.path(f))[0] for f in (f"{verb}.tif", f"{verb}-again.tif"))
            numpy.testing.assert_array_equal(again[~numpy.isnan(again)], whole[~numpy.isnan(whole)], verb)


if __name__ == "__main__":
    main()

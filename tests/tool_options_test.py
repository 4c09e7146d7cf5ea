"""Every option of every verb, used once: what it changes, and what it must not. The help is the list, so an option
that is new has to be told of here."""
import csv
import http.client
import json
import math
import os
import re
import shutil
import sqlite3
import subprocess
import time
import urllib.error
import urllib.request

import numpy

from tool import DEMO, TOOL, ToolTest, main, png

WEST, NORTH, COLS, ROWS, CELL = 677000, 5842000, 24, 20, 2


def ground():
    """A hill with a pit of voids, and a corner at 7 m."""
    ys, xs = numpy.mgrid[0:ROWS, 0:COLS]
    z = numpy.round(60 + 9 * numpy.sin(xs / 5) + 6 * numpy.cos(ys / 4), 2)
    z[:2, :2] = 7
    z[9:12, 10:13] = -9999
    return z


def asc(path, z, crs="EPSG:32725"):
    rows, cols = z.shape
    with open(path, "w") as f:
        f.write(f"ncols {cols}\nnrows {rows}\nxllcorner {WEST}\nyllcorner {NORTH - CELL * rows}\ncellsize {CELL}\nNODATA_value -9999\n")
        numpy.savetxt(f, z, "%.10g")
    if crs:
        with open(os.path.splitext(path)[0] + ".prj", "w") as f:
            f.write(crs)


def xyz(path, between):
    """Four columns: x, y, a height and another one."""
    with open(path, "w") as f:
        for (r, c), z in numpy.ndenumerate(ground()):
            f.write(between.join(map(str, (WEST + CELL * (c + 0.5), NORTH - CELL * (r + 0.5), 50 if z < 0 else z, r))) + "\n")


# How each verb that reads grids is called. What it is to say besides comes behind.
GRID_VERBS = {
    "mosaic": "{in} -o {out}.tif",
    "fill": "{in} -o {out}.tif",
    "flatten": "{in} --water pool.csv --above 1000m -o {out}.tif",
    "clip": "{in} -o {out}.tif",
    "reproject": "{in} --cell 3m -o {out}.tif",
    "compare": "{in} flat.asc -o {out}.tif",
    "correct": "{in} --offset 1m -o {out}.tif",
    "statistics": "{in} --level 50m -o {out}.csv",
    "hillshade": "{in} -o {out}.tif",
    "shadows": "{in} --altitude 20deg -o {out}.tif",
    "sky-view": "{in} -o {out}.tif",
    "slope": "{in} -o {out}.tif",
    "aspect": "{in} -o {out}.tif",
    "curvature": "{in} -o {out}.tif",
    "position": "{in} --radius 6m -o {out}.tif",
    "ruggedness": "{in} -o {out}.tif",
    "openness": "{in} -o {out}.tif",
    "landforms": "{in} -o {out}.tif",
    "roughness": "{in} -o {out}.tif",
    "contours": "{in} --interval 1m -o {out}.geojson",
    "depressions": "{in} --fill -o {out}.tif",
    "flow": "{in} -o {out}.tif",
    "streams": "{in} --from-area 40m2 -o {out}.geojson",
    "basins": "{in} --from-area 40m2 -o {out}.geojson",
    "inundation": "{in} --level 60m --all -o {out}.geojson",
    "spots": "{in} --radius 4m -o {out}.geojson",
    "section": "{in} --from 677001,5841999 --to 677044,5841961 -o {out}.csv",
    "map": "{in} --contours 1m --width 400 --title Hill -o {out}.svg",
    "picture": "{in} --contours 1m -o {out}.png",
    "heightmap": "{in} -o {out}.png",
    "solid": "{in} --scale 1000 -o {out}.obj",
    "look": "{in}",
    "check": "{in}",
}
POINT_VERBS = {"points": "small.las -o {out}.csv --write-columns x,y,z,class,intensity", "grid": "small.las --cell 4m -o {out}.tif"}
INSIDE = "box:677008.4,5841968.4,677031.6,5841991.6@EPSG:32725"
# Options with one meaning wherever they are: what to say, and the grid that it is said of.
CHANGES = {
    "--from-void": ("7", "g.asc"),
    "--depths": (None, "g.asc"),
    "--band": ("2", "two.bil"),
    "--columns": ("1,2,4", "p.xyz"),
    "--shift": ("1m", "g.asc"),
    "--area": (INSIDE, "g.asc"),
}
# Options that change nothing of what is made.
SAME = {"--threads": "1", "--memory": "64M", "--host": "other.example", "--key-file": "key.txt"}
# A height more does not change how the ground lies; and nothing is missing inside.
BLIND = {("heightmap", "--shift"), ("solid", "--shift"), ("spots", "--columns"), ("spots", "--from-void"), ("spots", "--area"), ("flow", "--shift"), ("shadows", "--shift"), ("sky-view", "--shift"), ("openness", "--shift"), ("landforms", "--shift"), ("check", "--area"), ("look", "--area"), ("hillshade", "--shift"), ("slope", "--shift"), ("aspect", "--shift"), ("curvature", "--shift"), ("position", "--shift"), ("ruggedness", "--shift"), ("ruggedness", "--depths"), ("roughness", "--shift"), ("roughness", "--depths"), ("slope", "--depths")}


class Options(ToolTest):
    @classmethod
    def setUpClass(cls):
        import tempfile

        cls.plain = {}
        cls.data = tempfile.mkdtemp(prefix="katoptra-options-")
        cls.addClassCleanup(shutil.rmtree, cls.data)
        at = lambda name: os.path.join(cls.data, name)
        z = ground()
        asc(at("g.asc"), z)
        asc(at("bare.asc"), z, crs=None)
        asc(at("flat.asc"), numpy.full((ROWS, COLS), 55.0))
        pool = ", ".join(f"{WEST + CELL * c} {NORTH - CELL * r}" for c, r in ((8, 8), (8, 13), (13, 13), (13, 8), (8, 8)))
        with open(at("pool.csv"), "w") as f:
            f.write(f'wkt,kind,level\n"POLYGON(({pool}))",lake,57\n')
        asc(at("zones.asc"), numpy.tile(numpy.arange(COLS) // 12, (ROWS, 1)))
        xyz(at("p.xyz"), " ")
        xyz(at("semi.xyz"), ";")
        numpy.stack([z, z[::-1]]).astype("<f4").transpose(1, 0, 2).tofile(at("two.bil"))
        with open(at("two.hdr"), "w") as f:
            f.write(f"BYTEORDER I\nLAYOUT BIL\nNROWS {ROWS}\nNCOLS {COLS}\nNBANDS 2\nNBITS 32\nPIXELTYPE FLOAT\nULXMAP {WEST + 1}\nULYMAP {NORTH - 1}\nXDIM {CELL}\nYDIM {CELL}\nNODATA -9999\n")
        with open(at("two.prj"), "w") as f:
            f.write("EPSG:32725")
        with open(at("key.txt"), "w") as f:
            f.write("secret\n")
        subprocess.run([TOOL, "points", os.path.join(DEMO, "lidar-2022", "lidar_nw.laz"), "--every", "40", "-o", at("small.las"), "--quiet"], check=True)

    def setUp(self):
        super().setUp()
        for name in os.listdir(self.data):
            os.symlink(os.path.join(self.data, name), self.path(name))
        self.made = 0

    def call(self, verb, words, given="g.asc", more=()):
        """Runs it; what it made, as bytes, or what it said where it makes nothing."""
        if not more and (verb, given) in self.plain:
            return self.plain[verb, given]
        made = self.made_by(verb, words, given, more)
        if not more:
            self.plain[verb, given] = made
        return made

    def made_by(self, verb, words, given, more):
        self.made += 1
        out = f"out{self.made}"
        ready = words.replace("{in}", given).replace("{out}", out).split()
        said = self.run_json(verb, *ready, *more, status=self.status(verb, ready))
        made = re.search(out + r"\.\w+", " ".join(ready))
        if not made:
            return re.sub(rb'("bytes": )\d+', rb"\1n", json.dumps(said).encode().replace(given.encode(), b"input"))
        with open(self.path(made[0]), "rb") as f:
            # A table tells the file it was made from.
            return f.read().replace(given.encode(), b"input").replace(out.encode(), b"out")

    def status(self, verb, words):
        # What check thinks of this hill is not what is tested here.
        return (0, 1) if verb == "check" else (0,)

    def options(self, verb):
        text = self.run_tool(*verb.split(), "--help").stdout
        return re.findall(r"^  (?:-\w,)?(--[a-z-]+)", text, re.M)

    def verbs(self):
        return re.findall(r"^  ([a-z]+) ", self.run_tool("--help").stdout, re.M)

    def test_what_input_is_taken_for_and_what_is_cut_out(self):
        for verb, words in GRID_VERBS.items():
            has = self.options(verb)
            for option, (value, given) in CHANGES.items():
                if option not in has or (verb, option) in BLIND:
                    continue
                with self.subTest(verb=verb, option=option):
                    more = [option] + ([value] if value else [])
                    base = ["--crs" if verb not in ("reproject",) else "--from-crs", "EPSG:32725"] if given == "p.xyz" else []
                    self.assertNotEqual(self.call(verb, words, given, base), self.call(verb, words, given, base + more))

    def test_what_changes_nothing(self):
        for verb, words in {**GRID_VERBS, **POINT_VERBS}.items():
            with self.subTest(verb=verb):
                has = self.options(verb)
                every = [word for option, value in SAME.items() if option in has for word in (option, value)]
                self.assertGreaterEqual(len(every), 4)
                self.assertEqual(self.call(verb, words), self.call(verb, words, more=every))

    def test_text_is_split_where_it_is_said(self):
        for verb, words in GRID_VERBS.items():
            crs = ["--from-crs" if verb == "reproject" else "--crs", "EPSG:32725"]
            with self.subTest(verb=verb):
                self.assertEqual(self.call(verb, words, "p.xyz", crs), self.call(verb, words, "semi.xyz", crs + ["--delimiter", ";"]))
                if verb != "check":  # that goes on and says what is damaged
                    self.run_tool(verb, *words.replace("{in}", "semi.xyz").replace("{out}", "none").split(), *crs, "--delimiter", "tab", status=3)

    def test_what_the_input_does_not_say(self):
        for verb, words in GRID_VERBS.items():
            with self.subTest(verb=verb):
                has = self.options(verb)
                crs = "--from-crs" if "--from-crs" in has else "--crs"
                known = self.call(verb, words, "bare.asc", [crs, "EPSG:32725"])
                if verb in ("mosaic", "flatten", "reproject", "compare", "contours", "spots", "streams", "basins", "inundation"):  # there it is needed
                    self.assertIn("crs", self.refused(verb, *words.replace("{in}", "bare.asc").replace("{out}", "none").split(), status=3))
                elif verb not in ("statistics", "picture", "heightmap"):  # numbers and pixels alone
                    self.assertNotEqual(known, self.call(verb, words, "bare.asc"))
                if verb in ("look", "check"):
                    continue
                # Feet are brought to metres where metres are wanted, heights above one thing to heights above another.
                if (verb, "--shift") in BLIND or verb == "picture":
                    continue
                for option, taken, to in (("--from-unit", "--unit", ("ft", "m")), ("--from-heights", "--heights", ("EGM96", "ellipsoid"))):
                    first, second = (self.call(verb, words, more=[option, to[0], taken, wanted]) for wanted in to)
                    self.assertNotEqual(first, second, option)
        said = self.run_json("look", "g.asc", "--unit", "ft", "--heights", "EGM2008")[0]
        self.assertEqual((said["unit"], said["heights"]), ("ft", "EGM2008 height"))
        self.assertIn("ft", self.run_tool("check", "g.asc", "--unit", "ft", "--heights", "EGM2008", status=1).stdout)

    def test_how_sure_the_input_is(self):
        verbs = [v for v in GRID_VERBS if "--uncertainty" in self.options(v)]
        self.assertGreaterEqual(set(verbs), {"mosaic", "fill", "clip", "reproject", "correct", "section"})
        # What these say is how sure something is: without, there is nothing to say, and how far errors go together changes nothing.
        asked = {"contours": "{in} --interval 1m --zones -o {out}.geojson", "inundation": "{in} --level 60m --chance -o {out}.tif"}
        for verb in verbs:
            words, stated = asked.get(verb, GRID_VERBS[verb]), ["--uncertainty", "0.1m+0.2m*slope"]
            with self.subTest(verb=verb):
                if verb in asked:
                    more = self.made_by(verb, words, "g.asc", stated)
                    self.assertNotEqual(more, self.made_by(verb, words, "g.asc", stated + ["--confidence", "95"]))
                    self.assertEqual(more, self.made_by(verb, words, "g.asc", stated + ["--error-reach", "0m"]))
                    never = words.replace("{in}", "g.asc").replace("{out}", "never").split()
                    self.assertIn("how sure it is", self.refused(verb, *never, status=2))
                    continue
                plain, sure = self.call(verb, words), self.call(verb, words, more=stated)
                self.assertNotEqual(plain, sure)
                self.assertNotEqual(sure, self.call(verb, words, more=stated + ["--confidence", "95"]))
                self.assertNotEqual(sure, self.call(verb, words, more=stated + ["--error-reach", "0m"]))
                if "--no-uncertainty" in self.options(verb):
                    self.assertEqual(plain, self.call(verb, words, more=stated + ["--no-uncertainty"]))
                    out = words.replace("{in}", "g.asc").replace("{out}", "never").split()
                    for wrong, say in (("-0.1m", "below zero"), ("0.1", "0.05m"), ("lots", "0.05m"), ("0.1m*aspect", "0.05m")):
                        self.assertIn(say, self.refused(verb, *out, "--uncertainty", wrong, status=2))
                    self.assertIn("68", self.refused(verb, *out, *stated, "--confidence", "90", status=2))
                    self.assertIn("reach", self.refused(verb, *out, *stated, "--error-reach=-1m", status=2).replace("go together", "reach"))

    def test_endings_may_be_capitals(self):
        """contours -o A.GPKG said that it was GeoJSON; statistics -o A.CSV was refused."""
        for verb, words, say in (("contours", "g.asc --interval 2m -o A.GPKG", "EPSG:32725"), ("statistics", "g.asc -o A.CSV", "A.CSV"), ("section", "g.asc --from 677001,5841999 --to 677044,5841961 -o S.CSV", "S.CSV"), ("map", "g.asc --width 400 -o M.PNG", "M.PNG"), ("clip", "g.asc -o C.TIF", "C.TIF"), ("find", f"--in {DEMO} --area {AREA} -o LIST.CSV", "LIST.CSV")):
            with self.subTest(verb=verb):
                self.assertIn(say, self.run_tool(verb, *words.split()).stdout)
        self.assertEqual(len(self.run_json("fetch", "LIST.CSV", "-o", "here", "--dry-run")["tiles"]), 9)

    def test_how_files_are_written(self):
        import tifffile

        for verb, words in {**GRID_VERBS, **POINT_VERBS}.items():
            has = self.options(verb)
            with self.subTest(verb=verb):
                if "--out" in has and "{out}" in words:
                    ready = words.replace("{in}", "g.asc").replace("{out}", "once_" + verb).split()
                    status = self.status(verb, ready)
                    self.run_tool(verb, *ready, status=status)
                    self.assertIn("--overwrite", self.refused(verb, *ready, status=4))
                    quiet = self.run_tool(verb, *ready, "--overwrite", "--quiet", status=status)
                    self.assertEqual((quiet.stdout, quiet.stderr), ("", ""))
                if "--dry-run" in has:
                    before = self.files()
                    self.run_tool(verb, *words.replace("{in}", "g.asc").replace("{out}", "never").split(), "--dry-run")
                    self.assertEqual(self.files(), before)
                if "--void" in has and ".tif" in words:
                    void = 0 if verb in ("hillshade", "shadows", "landforms") else -5  # bytes
                    self.call(verb, words, more=["--void", str(void)])
                    with tifffile.TiffFile(self.path(f"out{self.made}.tif")) as t:
                        self.assertEqual(float(t.pages[0].tags[42113].value), void)
                if "--sheets" in has and ".tif" in words:
                    # In two parts, and opened by their index: the cells of the whole.
                    whole = self.read_raster(self.path(f"once_{verb}.tif"))[0]
                    ready = words.replace("{in}", "g.asc").replace("{out}.tif", f"{verb}_sheets/x.tif").split()
                    for part in ("1/2", "2/2"):
                        self.run_tool(verb, *ready, "--sheets", f"{17 * {'reproject': 3, 'grid': 4}.get(verb, CELL)}m", "--part", part)
                    self.assertGreater(len([f for f in os.listdir(self.path(f"{verb}_sheets")) if f.endswith(".tif")]), 1)
                    self.run_tool("clip", f"{verb}_sheets/x.sheets.geojson", "--area", f"like:once_{verb}.tif", "-o", f"{verb}_again.tif")
                    numpy.testing.assert_array_equal(self.read_raster(self.path(f"{verb}_again.tif"))[0], whole)
                if "--codec" in has and ".tif" in words:
                    self.call(verb, words, more=["--codec", "zstd", "--predictor", "float"])
                    with tifffile.TiffFile(self.path(f"out{self.made}.tif")) as t:
                        self.assertEqual([int(t.pages[0].tags[n].value) for n in (259, 317)], [50000, 3])


# Options that every verb takes in one of the ways above; all others stand in the method of their verb below.
SHARED = {*CHANGES, *SAME, "--delimiter", "--from-crs", "--crs", "--from-unit", "--unit", "--from-heights", "--heights", "--out", "--overwrite", "--dry-run", "--void", "--codec", "--predictor", "--json", "--quiet", "--help", "--uncertainty", "--confidence", "--error-reach", "--no-uncertainty", "--sheets", "--part",
          # Of all that follow water: drains() below.
          "--depressions", "--longest", "--deepest", "--keep-deeper", "--keep-larger", "--keep-in", "--burn", "--voids"}
AREA = os.path.join(DEMO, "area.geojson")
RILL = {"type": "LineString", "coordinates": [[-30.99619, -37.55206], [-30.99589, -37.55223]]}


class OwnOptions(Options):
    """What one verb alone knows, or means in a way of its own."""

    # Run by the class above.
    test_what_input_is_taken_for_and_what_is_cut_out = test_what_changes_nothing = test_text_is_split_where_it_is_said = None
    test_what_the_input_does_not_say = test_how_files_are_written = test_endings_may_be_capitals = test_how_sure_the_input_is = None

    def values(self, name):
        return self.read_raster(self.path(name))[0]

    def table(self, name):
        with open(self.path(name)) as f:
            return list(csv.DictReader(f))

    def make(self, words, out="a.tif"):
        self.run_tool(*words.split(), "-o", out, "--overwrite")
        return self.values(out) if out.endswith(".tif") else open(self.path(out)).read()

    def test_no_option_is_forgotten_here(self):
        with open(__file__) as f:
            methods = dict(re.findall(r"    def test_(\w+)_options\(self\):\n(.*?)(?=\n    def |\Z)", f.read(), re.S))
        verbs = [v for v in self.verbs() if v not in ("order", "demo")] + ["order " + s for s in ("new", "list", "follow", "collect", "dismiss", "repeat", "map")]
        for verb in verbs:
            body = methods.get(verb.split()[0].replace("-", "_"), "")
            for option in self.options(verb):
                if option not in SHARED:
                    self.assertRegex(body, re.escape(option) + r"(?![a-z-])", f"{verb} {option} is used nowhere in this file")

    def test_look_options(self):
        self.assertIn("range", self.run_json("look", "g.asc")[0])
        self.assertNotIn("range", self.run_json("look", "g.asc", "--quick")[0])
        # Without neighbours that know theirs, the area is what a guess can rest on.
        os.mkdir(self.path("alone"))
        shutil.copy(self.path("bare.asc"), self.path("alone/bare.asc"))
        guess = lambda *words: self.run_tool("look", "alone/bare.asc", *words).stdout
        # How sure its values are, of a file that carries it.
        self.run_tool("clip", "g.asc", "--uncertainty", "0.2m", "--error-reach", "3m", "-o", "sure.tif")
        said = self.run_json("look", "sure.tif")[0]["uncertainties"]
        self.assertAlmostEqual(said["median"], 0.2, places=6)
        self.assertEqual((said["error_reach_m"], said["cells"]), (3, ROWS * COLS - 9))
        self.assertIn("all of the cells known; errors go together over 3 m", self.run_tool("look", "sure.tif").stdout)
        self.assertIn("likely EPSG:32725", guess("--area", "circle:-30.9958,-37.5530,2km"))
        self.assertNotIn("EPSG:32725", guess())

    def test_find_options(self):
        def found(*words, area=AREA):
            return self.run_json("find", "--in", DEMO, "--area", area, *words)

        def kept(*words):
            return {os.path.basename(t["path"]) for t in found(*words)["tiles"] if t["kept"]}

        sheets = {"lidar_ne.laz", "lidar_nw.laz", "lidar_se.laz", "lidar_sw.laz"}
        self.assertEqual(kept("--kind", "points", "--density", "0.01"), sheets)
        self.assertEqual(kept("--kind", "points", "--density", "1000"), set())
        self.assertEqual(kept("--kind", "points", "--class", "2"), sheets - {"lidar_se.laz"})  # that is not classed
        self.assertEqual(kept("--kind", "points", "--class", "200"), set())
        self.assertEqual(kept("--year", "2019"), {"kessa.tif"})
        self.assertEqual(kept("--cell", "1m", "--survey", "ground", "--access", "key"), set())
        self.assertEqual(kept("--format", "HGT", "--heights", "EGM96"), {"S38W031.hgt.zip"})
        self.assertEqual(kept("--prefer", "finest", "--year", "..2015"), {"coast.tif"})
        few, everything = found(), found("--all")
        self.assertGreater(sum(t["kept"] for t in everything["tiles"]), sum(t["kept"] for t in few["tiles"]))
        self.assertGreater(len(found("--margin", "3km", "--all")["tiles"]), len(everything["tiles"]))
        self.run_json("find", "--in", DEMO, "--area", AREA, "--year", "2019", "--complete", status=1)
        place = json.load(open(os.path.join(DEMO, "gazetteer.geojson")))["features"][0]["properties"]["name"]
        shutil.copy(os.path.join(DEMO, "gazetteer.geojson"), self.path("places.geojson"))
        self.assertTrue(found("--gazetteer", "places.geojson", area="place:" + place)["tiles"])
        # Kept in a catalogue that is filled anew when that is asked for.
        shutil.copytree(os.path.join(DEMO, "sonar-2019"), self.path("tiles"))
        words = ["find", "--in", "tiles", "--area", AREA, "--keep", "kept.katalog"]
        self.assertEqual(len(self.run_json(*words)["tiles"]), 1)
        self.assertEqual(len(self.run_json(*words, "--fresh", "--map", "tiles.png", "--page", "tiles.html", "--book", "none.book", "-o", "list.csv")["tiles"]), 1)
        self.assertIn("kessa", open(self.path("tiles.html")).read())
        with open(self.path("tiles.png"), "rb") as f:
            self.assertTrue(f.read(4).endswith(b"PNG"))

    def test_fetch_options(self):
        url = self.serve(DEMO, "--fail-every", 2)
        self.run_tool("find", "--in", url, "--area", AREA, "--year", "2000", "-o", "list.csv")
        plan = self.run_json("fetch", "list.csv", "-o", "here", "--dry-run")
        self.assertGreater(plan["bytes"], 10000)
        done = self.run_json("fetch", "list.csv", "-o", "here", "--parallel", "1", "--tries", "4", "--unpack", "--book", "orders.book")
        self.assertEqual(done["missing"], 0)
        self.assertTrue(any(f.endswith(".hgt") for f in self.files()))
        self.assertTrue(os.path.exists(self.path("orders.book")))
        before = len(self.files())
        self.run_json("fetch", "list.csv", "-o", "there", "--no-book")
        self.assertFalse(any(f.endswith(".hgt") and "/there/" in f for f in self.files()))
        self.assertGreater(len(self.files()), before)

    def test_order_options(self):
        url = self.serve()
        shutil.copy(os.path.join(DEMO, "gazetteer.geojson"), self.path("places.geojson"))
        place = json.load(open(self.path("places.geojson")))["features"][0]["properties"]["name"]
        book = ["--book", "my.book"]
        first = self.run_json("order", "new", url, "--area", "place:" + place, "--gazetteer", "places.geojson", "--margin", "5m", "--set", "cell=4", "--process", "extract", "--no-wait", *book)
        self.run_json("order", "follow", first["id"], *book)
        self.run_tool("order", "collect", first["id"], "-o", "first.tif", *book)
        self.assertAlmostEqual(self.run_json("look", "first.tif")[0]["ground_spacing_m"][1], 4, delta=0.01)
        again = self.run_json("order", "repeat", first["id"], "--area", "place:" + place, "--gazetteer", "places.geojson", "--margin", "50m", "--set", "cell=8", "--no-wait", *book)
        self.run_json("order", "dismiss", again["id"], *book)
        self.assertEqual(len(self.run_json("order", "list", *book)), 2)
        self.run_tool("order", "map", "-o", "wanted.png", *book)
        self.assertEqual(self.run_json("order", "list", "--book", "other.book"), [])

    def test_mosaic_options(self):
        # Two tiles that overlap, 10 m apart in height, the newer of them coarser.
        for name, z, cell in (("old", 50, 1), ("new", 60, 2)):
            with open(self.path(name + ".asc"), "w") as f:
                n = 40 // cell
                f.write(f"ncols {n}\nnrows {n}\nxllcorner {WEST + (20 if name == 'new' else 0)}\nyllcorner 5841960\ncellsize {cell}\n" + "\n".join([" ".join([str(z)] * n)] * n))
            with open(self.path(name + ".prj"), "w") as f:
                f.write("EPSG:32725")
        middle = lambda z: numpy.unique(z[5:-5, 22:38])
        self.assertEqual(middle(self.make("mosaic old.asc new.asc --prefer given --resample nearest")), [50])
        self.assertEqual(middle(self.make("mosaic new.asc old.asc --prefer given --resample nearest")), [60])
        self.assertEqual(middle(self.make("mosaic new.asc old.asc --prefer finest --resample nearest")), [50])
        self.assertGreater(len(middle(self.make("mosaic old.asc new.asc --prefer given --feather 10m --resample nearest"))), 3)
        cut = self.make(f"mosaic old.asc new.asc --prefer given --area {INSIDE}")
        self.assertGreater(self.make(f"mosaic old.asc new.asc --prefer given --area {INSIDE} --margin 4m").size, cut.size)
        # Levelled: by the one that is right, or by points that are.
        level = "--prefer given --resample nearest --level"
        self.assertEqual(numpy.unique(self.make(f"mosaic old.asc new.asc {level} offsets --hold old.asc")[5:-5, 2:-2]).tolist(), [50])
        self.assertEqual(numpy.unique(self.make(f"mosaic old.asc new.asc {level} planes --hold new.asc")[5:-5, 2:-2]).tolist(), [60])
        with open(self.path("known.csv"), "w") as f:
            f.write("name,x,y,z\n" + "".join(f"p{i},{WEST + 24 + i},{5841970 + 2 * i},{55 / 0.3048}\n" for i in range(8)))
        points = ["--control", "known.csv", "--control-crs", "EPSG:32725", "--control-heights", "EGM2008", "--control-unit", "ft", "--control-error", "0.02m"]
        said = self.run_json("mosaic", "old.asc", "new.asc", "--heights", "EGM2008", *level.split(), "offsets", *points, "-o", "held.tif")["levelling"]
        self.assertEqual([round(s["offset_m"], 3) for s in said["surveys"]], [5, -5])
        self.assertEqual([s["control_points"] for s in said["surveys"]], [8, 8])
        self.assertAlmostEqual(abs(said["overlaps"][0]["before_m"]), 10, places=3)
        self.assertAlmostEqual(said["overlaps"][0]["after_m"], 0, places=3)
        # Sheets of one survey move together, unless each is told to move by itself.
        os.makedirs(self.path("sheets"))
        for name, z, at in (("a", 70, 0), ("b", 72, 10)):
            asc(self.path(f"sheets/{name}.asc"), numpy.full((ROWS, 20), z))
            text = open(self.path(f"sheets/{name}.asc")).read().replace(f"xllcorner {WEST}", f"xllcorner {WEST + at}")
            open(self.path(f"sheets/{name}.asc"), "w").write(text)
        open(self.path("sheets/survey.toml"), "w").write('name = "Sheets"\n')
        for more, offsets in (([], [-20.0]), (["--each-tile"], [-20, -22])):
            said = self.run_json("mosaic", "old.asc", "sheets", *level.split(), "offsets", "--hold", "old.asc", *more, "-o", "s.tif", "--overwrite", "--dry-run")["levelling"]
            found = [s["offset_m"] for s in said["surveys"] if not s["held"]]
            self.assertEqual(len(found), len(offsets))
            self.assertAlmostEqual(max(found), -20, delta=2.01 if len(found) == 1 else 1e-3)
        self.assertFalse(os.path.exists(self.path("s.tif")))
        for words, say in (("--level offsets", "nothing says which level is right"), ("--level offsets --hold nobody", "old.asc, new.asc"), ("--hold old.asc", "--level"), ("--level splines --hold old.asc", "offsets"), ("--each-tile", "--level")):
            self.assertIn(say, self.refused("mosaic", "old.asc", "new.asc", *words.split(), "-o", "no.tif", status=2))

    def test_fill_options(self):
        asc(self.path("edge.asc"), numpy.where(numpy.arange(COLS)[None, :] < 3, -9999, ground()))
        voids = lambda words: int(numpy.isnan(self.make(words)).sum())
        self.assertEqual(voids("fill g.asc"), 0)
        self.assertEqual(voids("fill g.asc --largest 2m"), 9)
        self.assertEqual(voids("fill edge.asc"), 3 * ROWS)
        self.assertEqual(voids("fill edge.asc --edges"), 0)
        # The pit, 3 by 3 cells: by its rim, by a membrane, from a surface that is 5 m higher and knows it, or what errs least.
        z, pit = ground(), (slice(9, 12), slice(10, 13))
        filled = {m: self.make(f"fill g.asc --method {m}")[pit] for m in ("usual", "distance", "membrane", "smooth", "auto")}
        self.assertEqual(len({tuple(f.ravel()) for m, f in filled.items() if m != "auto"}), 4)
        ys, xs = numpy.mgrid[0:ROWS, 0:COLS]
        truth = numpy.round(60 + 9 * numpy.sin(xs / 5) + 6 * numpy.cos(ys / 4), 2)
        # Slopes go on at the rim of the smooth one, so it follows the hill best.
        off = {m: numpy.sqrt(numpy.mean((f - truth[pit]) ** 2)) for m, f in filled.items()}
        self.assertLessEqual(off["auto"], off["usual"])
        self.assertLess(off["smooth"], 0.5 * off["membrane"])
        asc(self.path("higher.asc"), truth + 5)
        numpy.testing.assert_allclose(self.make("fill g.asc --second higher.asc")[pit], truth[pit], atol=0.02)
        asc(self.path("slanted.asc"), truth + 5 + (xs > 11))
        all_over, near = (self.make(f"fill g.asc --second slanted.asc {w}")[pit] for w in ("", "--blend 2m"))
        self.assertGreater(numpy.abs(all_over - near).max(), 0.001)
        self.refused("fill", "g.asc", "--blend", "2m", "-o", "no.tif", status=2)
        # What is said of the input is not said of the second surface: its band, its shift.
        once, other = (self.make(f"fill two.bil --band {n} --shift 1m --second higher.asc") for n in (1, 2))
        self.assertTrue(numpy.isfinite(once[pit]).all() and numpy.isfinite(other[8:11, 10:13]).all())
        self.assertIn("cannot be opened", self.refused("fill", "g.asc", "--second", "gone.tif", "-o", "no.tif", status=4))
        self.run_tool("slope", "g.asc", "-o", "slope.tif")
        self.assertIn("holds slope", self.refused("fill", "g.asc", "--second", "slope.tif", "-o", "no.tif", status=3))
        self.assertFalse(os.path.exists(self.path("no.tif")))
        self.assertIn("usual", self.refused("fill", "g.asc", "--method", "spline", "-o", "no.tif", status=2))
        said = self.run_json("fill", "g.asc", "--method", "auto", "-o", "auto.tif")
        self.assertTrue(said["trials"])
        self.assertEqual(sum(t["taken"] for t in said["trials"]), 1)
        self.assertEqual(sum(said["voids_by_" + way] for way in ("mean", "distance", "membrane", "smooth", "tin")), 1)
        # Across the middle of the pit a bed that falls evenly from one side to the other, and triangles.
        with open(self.path("stream.csv"), "w") as f:
            f.write(f'wkt\n"LINESTRING({WEST} {NORTH - 21}, {WEST + 90} {NORTH - 21})"\n')
        bed = self.make("fill g.asc --streams stream.csv --method tin")[10, 9:14]
        numpy.testing.assert_allclose(numpy.diff(bed[1:4]), numpy.diff(bed[1:4])[0], atol=1e-4)
        self.assertEqual(self.run_json("fill", "g.asc", "--streams", "stream.csv", "-o", "bed.tif")["stream_cells"], 3)
        water = {"type": "FeatureCollection", "features": [{"type": "Feature", "properties": {}, "geometry": {"type": "Point", "coordinates": [-31, -37.5]}}]}
        with open(self.path("point.geojson"), "w") as f:
            json.dump(water, f)
        self.assertIn("no lines", self.refused("fill", "g.asc", "--streams", "point.geojson", "-o", "no.tif", status=2))

    def test_flatten_options(self):
        # A pond at 50 m in ground at 60 m, with waves of 4 cm, a stake and a hole in it; its shape reaches a cell onto the bank.
        ys, xs = numpy.mgrid[0:ROWS, 0:COLS]
        z = numpy.full((ROWS, COLS), 60.0)
        pond = (slice(4, 13), slice(6, 19))
        z[pond] = 50 + 0.04 * ((xs + 2 * ys) % 3 - 1)[pond]
        z[10, 8], z[7:9, 12:15] = 55, -9999
        asc(self.path("pond.asc"), z)
        ring = ", ".join(f"{WEST + CELL * c} {NORTH - CELL * r}" for c, r in ((5, 3), (5, 14), (20, 14), (20, 3), (5, 3)))
        with open(self.path("pond.csv"), "w") as f:
            f.write(f'wkt,name\n"POLYGON(({ring}))",Pond\n')
        with open(self.path("level.csv"), "w") as f:
            f.write(f'wkt,level,unit\n"POLYGON(({ring}))",168,ft\n')
        flat = self.make("flatten pond.asc --water pond.csv --record pond.gpkg")
        wet = numpy.zeros((ROWS, COLS), bool)
        wet[pond] = True
        numpy.testing.assert_array_equal(flat[wet], 50)  # also the stake: it is smaller than an island
        numpy.testing.assert_array_equal(flat[~wet], z[~wet])
        back = self.make("flatten a.tif --undo pond.gpkg", "back.tif")
        numpy.testing.assert_array_equal(numpy.nan_to_num(back, nan=-9999), z.astype("f4"))
        self.assertEqual(self.make("flatten pond.asc --water pond.csv --island 3m2")[10, 8], 55)
        # Two centimetres let waves stand out where they hang together with the bank.
        self.assertGreater(len(numpy.unique(self.make("flatten pond.asc --water pond.csv --above 0.02m")[pond])), 1)
        kinds = {kind: self.run_json("flatten", "pond.asc", "--water", "pond.csv", "--kind", kind, "-o", "k.tif", "--overwrite")["water"][0]["kind"] for kind in ("lake", "river", "sea", "auto")}
        self.assertEqual(kinds, {"lake": "lake", "river": "river", "sea": "sea", "auto": "lake"})
        self.assertAlmostEqual(self.make("flatten pond.asc --water level.csv")[10, 15], 168 * 0.3048, places=4)
        # Found by itself; not where it must be larger, or leveller; and by few returns.
        found = self.run_json("flatten", "pond.asc", "--find", "--smallest", "100m2", "-o", "f.tif")["water"]
        self.assertEqual([round(w["level"], 3) for w in found], [50])
        for words in (("--smallest", "2000m2"), ("--smallest", "100m2", "--flat", "0.01m")):
            self.assertIn("no water was found", self.refused("flatten", "pond.asc", "--find", *words, "-o", "no.tif", status=2))
        asc(self.path("many.asc"), numpy.where(wet, 1.0, 9.0))
        self.make("flatten pond.asc --find --flat 20m --returns many.asc")
        self.assertIn("no water", self.refused("flatten", "pond.asc", "--find", "--returns", "flat.asc", "-o", "no.tif", status=2))
        self.assertEqual(self.make(f"flatten pond.asc --water pond.csv --area {INSIDE} --margin 4m").shape, (16, 16))
        # Of a sea what hangs together with the edge.
        asc(self.path("shore.asc"), numpy.where(xs < 3, 0.0, numpy.where(wet, -1.0, 20.0)))
        sea = self.make("flatten shore.asc --sea 0.5m")
        self.assertEqual((numpy.unique(sea[:, :3]).tolist(), sea[8, 10], sea[0, 20]), ([0.5], -1, 20))

    def test_clip_options(self):
        inside, wider = (self.make(f"clip g.asc --area {INSIDE}" + more) for more in ("", " --margin 4m"))
        # Cells whose centre is inside: 12 each way, and two more on each side.
        self.assertEqual((inside.shape, wider.shape), ((12, 12), (16, 16)))

    def test_reproject_options(self):
        self.assertEqual(self.make("reproject g.asc --cell 4m --resample mean").shape, (ROWS // 2, COLS // 2))
        nearest = self.make("reproject g.asc --cell 1m --resample nearest")
        self.assertLess(len(numpy.unique(nearest)), len(numpy.unique(self.make("reproject g.asc --cell 1m --resample cubic"))))
        self.make("clip flat.asc --area box:677010,5841970,677030,5841990@EPSG:32725", "frame.tif")
        numpy.testing.assert_array_equal(self.make("reproject g.asc --onto frame.tif", "onto.tif"), ground()[5:15, 5:15].astype("f4") * numpy.where(ground()[5:15, 5:15] < 0, numpy.nan, 1))
        self.run_tool("reproject", "g.asc", "--crs", "EPSG:4326", "--margin", "2m", "--area", INSIDE, "-o", "degrees.tif")
        self.assertEqual(self.run_json("look", "degrees.tif")[0]["crs"], "EPSG:4326")

    def test_correct_options(self):
        z = numpy.where(ground() < 0, numpy.nan, ground()).astype("f4")
        numpy.testing.assert_allclose(self.make("correct g.asc --offset -2.5m"), z - 2.5, atol=1e-5)
        numpy.testing.assert_allclose(self.make("correct g.asc --factor 0.3048"), z * 0.3048, atol=1e-5)
        self.make("correct g.asc --move 3,-1", "moved.tif")
        self.assertEqual(self.run_json("look", "moved.tif")[0]["bounds"][:2], [WEST + 3, NORTH - CELL * ROWS - 1])
        tilted = self.make("correct g.asc --tilt 0.01,0 --pivot 677001,5841999") - z
        numpy.testing.assert_allclose(tilted[0], 0.02 * numpy.arange(COLS), atol=1e-4)
        numpy.testing.assert_allclose(self.make("correct g.asc --turn 180deg"), z[::-1, ::-1], atol=1e-3)
        self.assertNotEqual(self.make("correct g.asc --turn 10deg --pivot 677001,5841999").shape, z.shape)
        # What compare found of a copy that lies 4 m too high.
        with open(self.path("found.json"), "w") as f:
            self.make("correct g.asc --offset 4m", "high.tif")
            f.write(self.run_tool("compare", "g.asc", "high.tif", "--json").stdout)
        numpy.testing.assert_allclose(self.make("correct high.tif --by found.json"), z, atol=0.01)
        peak = numpy.full((ROWS, COLS), 50.0)
        peak[8, 8], peak[14, 14] = 59, 51.5
        asc(self.path("peak.asc"), peak)
        self.assertEqual(numpy.isnan(self.make("correct peak.asc --spikes")).sum(), 2)
        self.assertEqual(numpy.isnan(self.make("correct peak.asc --spikes --spike 3m")).sum(), 1)

    def test_compare_options(self):
        plain = self.run_json("compare", "g.asc", "flat.asc")
        fewer = self.run_json("compare", "g.asc", "flat.asc", "--area", INSIDE)
        self.assertLess(fewer["difference"]["count"], plain["difference"]["count"])
        classes = lambda j, of: [c["name"] for c in j["classes"] if c["of"] == of]
        self.assertEqual(len(classes(self.run_json("compare", "g.asc", "flat.asc", "--slopes", "10,30"), "slope")), 3)
        self.assertNotEqual(self.run_json("compare", "g.asc", "flat.asc", "--sea-level", "60m"), plain)
        sheet = os.path.join(DEMO, "ground-2022", "sheet_b2.tif")
        self.run_tool("correct", sheet, "--turn", "0.1deg", "-o", "turned.tif", "--overwrite")
        found = self.run_json("compare", sheet, "turned.tif", "--rotation")["coregistration"]
        self.assertAlmostEqual(found["correction"]["rotation_deg"], -0.1, delta=0.003)
        self.assertNotIn("rotation_deg", self.run_json("compare", sheet, "turned.tif")["coregistration"])
        self.assertIn("turned by -0.", self.run_tool("compare", sheet, "turned.tif", "--rotation").stdout)
        doubt = ["--uncertainty-first", "2m", "--uncertainty-second", "1m"]
        sure, surer = (self.run_json("compare", "g.asc", "flat.asc", *doubt, "--confidence", c) for c in ("68", "95"))
        self.assertNotEqual(sure, surer)
        self.run_tool("compare", "g.asc", "flat.asc", "--map", "d.png", "--histogram", "h.svg", "--worst", "w.geojson")
        self.assertTrue(all(os.path.getsize(self.path(f)) > 60 for f in ("d.png", "h.svg", "w.geojson")))
        # There is no shift to take out of a plain.
        self.assertIn("even", self.refused("compare", "g.asc", "flat.asc", "--corrected", "c.tif", status=2))
        self.assertNotIn("shift", self.run_json("compare", "g.asc", "flat.asc", "--no-shift"))

    def test_statistics_options(self):
        told = lambda *words: self.run_json("statistics", "g.asc", *words)
        part = told("--area", INSIDE)["cells"]
        self.assertGreater(told("--area", INSIDE, "--margin", "4m")["cells"], part)
        self.assertEqual(len(told("--bins", "7", "--full")["histogram"]["full"]["cells"]), 7)
        level = told("--level", "60m")["levels"][0]
        above = ground()[ground() > 60]
        self.assertAlmostEqual(level["area_above_m2"] / (CELL * CELL * len(above)), 1, delta=0.001)
        self.assertGreater(len(told("--hypsometric", "--bins", "9")["levels"]), 8)
        by_class = told("--classes", "zones.asc")
        self.assertEqual(sum(zone["cells"] for zone in by_class["zones"]), 480 - 9)
        self.assertIn("north-east", [zone["zone"] for zone in told("--by-aspect")["zones"]])
        with open(self.path("halves.geojson"), "w") as f:
            json.dump({"type": "FeatureCollection", "features": []}, f)
        self.assertIn("no polygon", self.refused("statistics", "g.asc", "--polygons", "halves.geojson", status=3))
        self.run_tool("statistics", "g.asc", "--histogram", "h.png", "--rose", "r.svg", "--curve", "c.pdf")
        self.assertTrue(all(os.path.getsize(self.path(f)) > 300 for f in ("h.png", "r.svg", "c.pdf")))

    def test_check_options(self):
        codes = lambda *words, status=1: {f["code"] for f in self.run_json("check", "g.asc", *words, status=status)["findings"]}
        self.assertIn("voids", codes())
        self.assertIn("voids", codes("--profile", "navigation", "--density", "3"))
        self.assertIn("spike", self.run_tool("check", "--thresholds").stdout)
        wide = "box:676900,5841900,677100,5842100@EPSG:32725"
        self.assertIn("coverage", codes("--area", wide))
        self.assertNotIn("coverage", codes())
        self.make("correct g.asc --factor 3.28084", "feet.tif")
        low = self.run_json("check", "feet.tif", "--reference", "g.asc", status=1)
        self.assertIn("unit", {f["code"] for f in low["findings"]})
        ys, xs = numpy.mgrid[0:40, 0:40]
        peak = numpy.round(60 + 2 * numpy.sin(xs / 9) + 2 * numpy.cos(ys / 8), 2)
        peak[21, 17] += 4
        asc(self.path("peak.asc"), peak)
        spikes = lambda *words: "spike" in {f["code"] for f in self.run_json("check", "peak.asc", *words, status=(0, 1))["findings"]}
        self.assertTrue(spikes())
        self.assertFalse(spikes("--threshold", "spike=9m"))
        with open(self.path("stream.geojson"), "w") as f:
            json.dump({"type": "FeatureCollection", "features": [{"type": "Feature", "properties": {"name": "Rill"}, "geometry": RILL}]}, f)
        # A stream on a ridge and a hollow runs uphill in one half of them, whichever way it is drawn.
        self.assertNotIn("uphill", codes())
        self.assertIn("uphill", codes("--stream", "stream.geojson"))
        z = numpy.where(ground() < 0, numpy.nan, ground())
        with open(self.path("control.csv"), "w") as f:
            f.write("name,x,y,z\n" + "".join(f"p{i},{WEST + CELL * (c + 0.5)},{NORTH - CELL * (r + 0.5)},{(z[r, c] - 0.1) / 0.3048}\n" for i, (r, c) in enumerate([(4, 4), (5, 16), (16, 5), (16, 18), (12, 20)])))
        words = ["check", "g.asc", "--unit", "m", "--heights", "EGM2008", "--control", "control.csv", "--control-crs", "EPSG:32725", "--control-heights", "EGM2008", "--control-unit", "ft", "--control-error", "0.01m", "--residuals", "r.csv", "--figure", "r.png"]
        said = self.run_json(*words, status=1)
        self.assertAlmostEqual(said["control"]["all"]["mean"] if "all" in said["control"] else said["control"]["residuals"]["mean"], 0.1, delta=1e-3)
        self.assertEqual(len(self.table("r.csv")), 5)
        self.assertGreater(os.path.getsize(self.path("r.png")), 300)

    def test_hillshade_options(self):
        plain = self.make("hillshade g.asc")
        for more in ("--azimuth 90deg", "--altitude 20deg", "--exaggerate 3", "--exaggerate auto", "--lights several", "--shadows cast --altitude 20deg", "--sky 0.5", "--sun 2026-11-29T10:00Z"):
            self.assertFalse(numpy.array_equal(plain, self.make("hillshade g.asc " + more), equal_nan=True), more)
        said = self.run_tool("hillshade", "g.asc", "--sun", "2026-11-29T10:00Z", "-o", "a.tif", "--overwrite").stdout
        self.assertRegex(said, r"the sun stands \d+\.\d degrees high, at azimuth \d+")
        for words, expect, status in (("--sun 2026-11-29T02:00Z", "below the horizon", 2), ("--sun 2026-11-29T10:00", "where it is", 2), ("--sun 2026-11-29T10:00Z --azimuth 90deg", "leave out", 2), ("--lights two", "two", 2)):
            self.assertIn(expect, self.refused("hillshade", "g.asc", *words.split(), "-o", "none.tif", status=status))
        self.assertFalse(numpy.array_equal(self.make("hillshade g.asc --sky 1"), self.make("hillshade g.asc --sky 1 --radius 4m"), equal_nan=True))
        self.assertIn("heights are multiplied by", self.run_tool("hillshade", "g.asc", "--exaggerate", "auto", "-o", "a.tif", "--overwrite").stdout)
        for words, expect in (("--exaggerate 0", "auto"), ("--exaggerate much", "no number"), ("--sky 2", "no share"), ("--radius 9m", "--sky"), ("--shadows cast --altitude 0deg", "on the horizon")):
            self.assertIn(expect, self.refused("hillshade", "g.asc", *words.split(), "-o", "none.tif", status=2))
        inside = self.make(f"hillshade g.asc --area {INSIDE}").shape
        self.assertGreater(self.make(f"hillshade g.asc --area {INSIDE} --margin 4m").shape, inside)

    def test_slope_options(self):
        z = ground()
        four = self.make("slope g.asc --as ratio --gradient zevenbergen-thorne")
        numpy.testing.assert_allclose(four[15, 15], numpy.hypot(z[15, 16] - z[15, 14], z[14, 15] - z[16, 15]) / (2 * CELL), rtol=2e-3)
        five = z[13:18, 13:18]
        fit = numpy.hypot((five * numpy.arange(-2, 3)).sum(), (five.T * numpy.arange(-2, 3)).sum()) / (50 * CELL)
        numpy.testing.assert_allclose(self.make("slope g.asc --as ratio --window 5")[15, 15], fit, rtol=2e-3)
        self.assertIn("quadric", self.refused("slope", "g.asc", "--window", "5", "--gradient", "horn", "-o", "none.tif", status=2))
        degrees, percent, ratio = (self.make(f"slope g.asc --as {a}") for a in ("degrees", "percent", "ratio"))
        numpy.testing.assert_allclose(percent, 100 * numpy.tan(numpy.radians(degrees)), rtol=1e-4)
        numpy.testing.assert_allclose(ratio, numpy.tan(numpy.radians(degrees)), rtol=1e-4)
        self.assertGreater(self.make(f"slope g.asc --area {INSIDE} --margin 4m").size, self.make(f"slope g.asc --area {INSIDE}").size)

    def test_curvature_options(self):
        z = ground().astype(float)
        rows, cols = slice(13, 18), slice(14, 22)  # away from the voids and the rim
        kinds = {k: self.make(f"curvature g.asc --kind {k}")[rows, cols] for k in ("profile", "plan", "tangential", "mean", "largest", "smallest", "gaussian")}
        numpy.testing.assert_allclose((kinds["largest"] + kinds["smallest"]) / 2, kinds["mean"], atol=1e-6)
        numpy.testing.assert_allclose(kinds["largest"] * kinds["smallest"], kinds["gaussian"], atol=1e-6)
        numpy.testing.assert_allclose((kinds["profile"] + kinds["tangential"]) / 2, kinds["mean"], atol=0.3 * abs(kinds["mean"]).max())
        self.assertTrue((numpy.sign(kinds["plan"]) == numpy.sign(kinds["tangential"])).all())
        # Second differences over two cells of 2 m; the ground is some 0.04 % longer than the grid there.
        along = (z[:, 2:] - 2 * z[:, 1:-1] + z[:, :-2])[12:19, 13:21] / CELL**2
        self.assertTrue((kinds["smallest"] <= -along[1:-1].min() + 0.02).all())
        self.assertFalse(numpy.allclose(self.make("curvature g.asc --window 7")[rows, cols], kinds["profile"]))
        self.assertIn("odd", self.refused("curvature", "g.asc", "--window", "4", "-o", "none.tif", status=2))
        self.assertGreater(self.make(f"curvature g.asc --area {INSIDE} --margin 4m").size, self.make(f"curvature g.asc --area {INSIDE}").size)

    def test_position_options(self):
        z = ground()
        ys, xs = numpy.mgrid[-4:5, -4:5]
        far = numpy.hypot(ys, xs) * CELL
        part = z[11:20, 15:24]
        for words, cells in (("--radius 6.1m", far <= 6.1), ("--radius 6.1m --inner 3m", (far <= 6.1) & (far >= 3))):
            self.assertAlmostEqual(self.make(f"position g.asc {words}")[15, 19], z[15, 19] - part[cells].mean(), places=4)
            self.assertAlmostEqual(self.make(f"position g.asc {words} --as deviations")[15, 19], (z[15, 19] - part[cells].mean()) / part[cells].std(), places=3)
        radius = self.make("position g.asc --radius 4m,6m,16m --as radius")
        self.assertTrue(set(numpy.unique(radius[~numpy.isnan(radius)])) <= {4, 6, 16})
        for words, expect in (("--radius 6", "unit"), ("--radius 1m", "shorter than a cell"), ("--radius 5m --inner 6m", "leaves nothing"), ("--radius 9km", "--cell")):
            self.assertIn(expect, self.refused("position", "g.asc", *words.split(), "-o", "none.tif", status=2))
        area = "position g.asc --radius 6m --area " + INSIDE
        self.assertGreater(self.make(area + " --margin 4m").size, self.make(area).size)

    def test_shadows_options(self):
        plain = self.make("shadows g.asc --altitude 20deg")
        self.assertEqual(set(numpy.unique(plain[~numpy.isnan(plain)])), {1, 2})
        dark = (plain == 1).sum()
        self.assertLess((self.make("shadows g.asc --altitude 40deg") == 1).sum(), dark)
        self.assertGreater((self.make("shadows g.asc --altitude 20deg --exaggerate 2") == 1).sum(), dark)
        self.assertFalse(numpy.array_equal(plain, self.make("shadows g.asc --altitude 20deg --azimuth 90deg"), equal_nan=True))
        early, late = ((self.make(f"shadows g.asc --sun 2026-11-29T{t}Z") == 1).sum() for t in ("07:30", "14:00"))
        self.assertGreater(early, late)
        self.assertIn("below the horizon", self.refused("shadows", "g.asc", "--sun", "2026-11-29T02:00Z", "-o", "none.tif", status=2))
        area = f"shadows g.asc --altitude 20deg --area {INSIDE}"
        self.assertGreater(self.make(area + " --margin 4m").size, self.make(area).size)

    def sight(self, verb):
        """What the verbs that look around have in common."""
        for words, expect in (("--radius 1m", "shorter than a cell"), ("--radius 9km", "--cell")):
            self.assertIn(expect, self.refused(verb, "g.asc", *words.split(), "-o", "none.tif", status=2))

    def angles(self):
        """The steepest up and down in eight directions from a cell, each walked here."""
        z = ground()
        ups, downs = [], []
        for dr, dc in ((0, 1), (1, 1), (1, 0), (1, -1), (0, -1), (-1, -1), (-1, 0), (-1, 1)):
            far = numpy.hypot(dr, dc) * CELL
            tangents = [(z[15 + k * dr, 19 + k * dc] - z[15, 19]) / (k * far) for k in range(1, 4) if k * far <= 6.1]
            ups.append(numpy.arctan(max(tangents)))
            downs.append(numpy.arctan(min(tangents)))
        return numpy.array(ups), numpy.array(downs)

    def test_openness_options(self):
        ups, downs = self.angles()
        eight = "--radius 6.1m --directions 8"
        self.assertAlmostEqual(self.make(f"openness g.asc {eight}")[15, 19], 90 - numpy.degrees(ups.mean()), delta=0.05)
        self.assertAlmostEqual(self.make(f"openness g.asc --kind below {eight}")[15, 19], 90 + numpy.degrees(downs.mean()), delta=0.05)
        self.assertIn("8, 16 or 32", self.refused("openness", "g.asc", "--directions", "9", "-o", "none.tif", status=2))
        self.assertGreater(self.make(f"openness g.asc --radius 6m --area {INSIDE} --margin 4m").size, self.make(f"openness g.asc --radius 6m --area {INSIDE}").size)
        self.sight("openness")

    def test_view_options(self):
        sheet, lidar = os.path.join(DEMO, "ground-2022", "sheet_b2.tif"), os.path.join(DEMO, "lidar-2022", "lidar_nw.laz")
        done = self.run_json("view", sheet, "-o", "a.html", "--title", "A sheet", "--drape", "slope:as=percent", "--drape", sheet, "--pins", os.path.join(DEMO, "control.csv"), "--line", os.path.join(DEMO, "transect.geojson"), "--cells", "20000", "--points", lidar, "--most-points", "300")
        self.assertLess(done["cols"] * done["rows"], 20001)
        self.assertLess(done["points"], 301)
        text = open(self.path("a.html")).read()
        for word in ("<title>A sheet</title>", '"slope-percent"', '"sheet_b2"', '"C01"', '"footbridge"'):
            self.assertIn(word, text)
        whole = self.run_json("view", sheet, "-o", "b.html")
        self.assertEqual(whole["points"], 0)
        self.assertGreater(whole["cols"], done["cols"])
        part, more = (self.run_json("view", sheet, "-o", f"{n}.html", "--area", "circle:-30.9889,-37.5550,60m", *words)["cols"] for n, words in (("c", ()), ("d", ("--margin", "20m"))))
        self.assertGreater(more, part + 15)
        # Without -o it is shown by a service, where that is said.
        with subprocess.Popen([TOOL, "view", sheet, "--listen", "localhost", "--port", "0", "--json"], stdout=subprocess.PIPE, text=True, env=self.environment) as shown:
            address = json.loads(shown.stdout.readline())["address"]
            self.assertTrue(address.startswith("http://localhost:"), address)
            with urllib.request.urlopen(address) as reply:
                self.assertIn(b"<!doctype html>", reply.read(100))
            shown.terminate()

    def test_sky_view_options(self):
        ups, _ = self.angles()
        eight = self.make("sky-view g.asc --radius 6.1m --directions 8")
        self.assertAlmostEqual(eight[15, 19], 1 - numpy.sin(numpy.maximum(ups, 0)).mean(), delta=1e-3)
        self.assertFalse(numpy.array_equal(eight, self.make("sky-view g.asc --radius 6.1m --directions 32"), equal_nan=True))
        self.assertGreater(self.make(f"sky-view g.asc --radius 6m --area {INSIDE} --margin 4m").size, self.make(f"sky-view g.asc --radius 6m --area {INSIDE}").size)
        self.sight("sky-view")

    def test_landforms_options(self):
        ups, downs = self.angles()
        rise, fall = ((ups + downs) > numpy.radians(1)).sum(), ((ups + downs) < -numpy.radians(1)).sum()
        forms = self.make("landforms g.asc --radius 6.1m")
        self.assertTrue(set(numpy.unique(forms[~numpy.isnan(forms)])) <= set(range(1, 11)))
        self.assertEqual(forms[15, 19] == 6, (fall, rise) in {(2, 2), (2, 3), (3, 2), (3, 3), (3, 4), (4, 3), (4, 4)})
        self.assertGreater((self.make("landforms g.asc --radius 6.1m --flat 89deg")[14:17, 15:21] == 1).mean(), 0.9)
        six, ten = (self.make(f"landforms g.asc --by position --radius {r}") for r in ("6m", "6m,16m"))
        self.assertTrue(numpy.nanmax(six) <= 6 < numpy.nanmax(ten))
        self.assertRegex(self.run_tool("landforms", "g.asc", "-o", "a.tif", "--overwrite").stdout, r"range +\d \(")
        with open(self.path("a.tif"), "rb") as f:
            self.assertIn(b"classes=1 flat, 2 summit, 3 ridge", f.read())
        import netCDF4

        self.run_tool("landforms", "g.asc", "-o", "a.nc", "--overwrite")
        with netCDF4.Dataset(self.path("a.nc")) as d:
            self.assertEqual(list(d["landform"].flag_values), list(range(1, 11)))
            self.assertTrue(d["landform"].flag_meanings.startswith("flat summit ridge"))
        self.assertEqual(self.run_json("look", "a.nc")[0]["quantity"], "landform")
        self.assertIn("--by position", self.refused("landforms", "g.asc", "--radius", "6m,9m", "-o", "none.tif", status=2))
        self.assertGreater(self.make(f"landforms g.asc --radius 6m --area {INSIDE} --margin 4m").size, self.make(f"landforms g.asc --radius 6m --area {INSIDE}").size)
        self.sight("landforms")

    def test_ruggedness_options(self):
        z = ground()
        five = z[13:18, 13:18]
        for kind, window, expect in (("range", 5, numpy.ptp(five)), ("deviation", 5, five.std()), ("riley", 3, numpy.sqrt(((five[1:4, 1:4] - five[2, 2]) ** 2).sum()))):
            self.assertAlmostEqual(self.make(f"ruggedness g.asc --kind {kind} --window {window}")[15, 15], expect, places=4)
        narrow, wide = (self.make(f"ruggedness g.asc {w}") for w in ("", "--window 9"))
        self.assertTrue(0 < narrow[15, 15] < wide[15, 15] < 1)
        self.assertIn("3 x 3", self.refused("ruggedness", "g.asc", "--kind", "riley", "--window", "5", "-o", "none.tif", status=2))
        self.assertGreater(self.make(f"ruggedness g.asc --area {INSIDE} --margin 4m").size, self.make(f"ruggedness g.asc --area {INSIDE}").size)

    def test_derive_options(self):
        """Whatever is said, each file is the one that the product's own verb writes."""
        for i, (given, more) in enumerate([
            ("g.asc", ""),
            ("g.asc", f"--area {INSIDE} --margin 4m --threads 1 --memory 64M"),
            ("g.asc", "--unit ft --from-unit m --from-heights EGM96 --heights ellipsoid"),
            ("g.asc", "--depths --from-void 7 --shift 1m"),
            ("two.bil", "--band 2"),
            ("semi.xyz", "--crs EPSG:32725 --delimiter ; --columns 1,2,4"),
        ]):
            with self.subTest(more=more):
                self.run_tool("derive", given, "slope:as=percent", "curvature", "hillshade", *more.split(), "-o", f"into{i}/deep")
                for name, words in (("slope-percent", "slope --as percent"), ("curvature", "curvature"), ("hillshade", "hillshade")):
                    self.run_tool(*words.split(), given, *more.split(), "-o", "alone.tif", "--overwrite")
                    with open(self.path("alone.tif"), "rb") as a, open(self.path(f"into{i}/deep/{name}.tif"), "rb") as b:
                        self.assertEqual(a.read(), b.read(), name)
        before = self.files()
        self.assertIn("slope.tif", self.run_tool("derive", "g.asc", "slope", "-o", "never", "--dry-run").stdout)
        self.assertEqual(self.files(), before)
        self.run_tool("derive", "g.asc", "slope", "aspect", "-o", "packed", "--codec", "zstd", "--predictor", "float", "--void", "-5")
        import tifffile

        for name in ("slope", "aspect"):
            with tifffile.TiffFile(self.path(f"packed/{name}.tif")) as t:
                self.assertEqual([float(t.pages[0].tags[n].value) for n in (259, 317, 42113)], [50000, 3, -5])
        said = self.run_json("derive", "g.asc", "slope", "aspect", "-o", "packed", "--overwrite")
        self.assertEqual([(f["quantity"], f["unit"]) for f in said["files"]], [("slope", "degree"), ("aspect", "degree")])
        for words, expect, status in (("slop", "use hillshade, shadows", 2), ("slope:as", "slope:as=percent", 2), ("slope slope", "two of the files", 2), ("slope aspect", "--overwrite", 4), ("curvature:window=8", "odd", 2), ("slope:window=3.5", "cells", 2)):
            self.assertIn(expect, self.refused("derive", "g.asc", *words.split(), "-o", "packed", status=status))
        self.assertIn("not heights", self.refused("derive", "packed/slope.tif", "aspect", "-o", "none", status=3))
        self.assertIn("folder", self.refused("derive", "g.asc", "aspect", "-o", "p.xyz", status=4))

    def test_aspect_options(self):
        flat, wide, four = (self.make(f"aspect g.asc {o}") for o in ("", "--window 5", "--gradient zevenbergen-thorne"))
        self.assertFalse(numpy.array_equal(flat, wide, equal_nan=True) or numpy.array_equal(flat, four, equal_nan=True))
        self.assertGreater(self.make(f"aspect g.asc --area {INSIDE} --margin 4m").size, self.make(f"aspect g.asc --area {INSIDE}").size)

    def test_roughness_options(self):
        self.assertGreater(self.make(f"roughness g.asc --area {INSIDE} --margin 4m").size, self.make(f"roughness g.asc --area {INSIDE}").size)

    def test_contours_options(self):
        def levels(*words):
            self.run_tool("contours", "g.asc", *words, "-o", "c.geojson", "--overwrite")
            return {(f["properties"]["level"], bool(f["properties"]["index"])) for f in json.load(open(self.path("c.geojson")))["features"]}

        self.assertTrue(all(level % 2 == 0 for level, _ in levels("--interval", "2m")))
        self.assertTrue(all(level % 2 == 1 for level, _ in levels("--interval", "2m", "--base", "1m")))
        self.assertTrue(all(index == (level % 6 == 0) for level, index in levels("--interval", "2m", "--index", "3")))
        self.assertEqual({level for level, _ in levels("--levels", "52,50,49.5m")}, {49.5, 50, 52})
        self.run_tool("contours", "g.asc", "--levels", "60m", "--zones", "--uncertainty", "0.2m", "-o", "z.gpkg")
        with sqlite3.connect(self.path("z.gpkg")) as db:
            self.assertEqual(db.execute("SELECT level, confidence FROM zones").fetchall(), [(60, 95)])
        self.assertIn("give one of", self.refused("contours", "g.asc", "--interval", "2m", "--zones", "--bands", "-o", "n.gpkg", status=2))
        self.assertEqual({level for level, _ in levels("--depth-levels=-180,-200ft", "--unit", "ft")}, {180, 200})
        both = {level for level, _ in levels("--interval", "4m", "--base", "60m", "--below", "1m")}
        self.assertTrue({57, 58, 59, 60, 64} <= both and not {61, 62, 63} & both, both)
        ys, xs = numpy.mgrid[0:ROWS, 0:COLS]
        asc(self.path("egg.asc"), numpy.round(5 * numpy.sin(xs / 2) * numpy.sin(ys / 2), 2))
        some = self.run_json("contours", "egg.asc", "--interval", "1m", "--shortest", "25m", "-o", "some.geojson")["lines"]
        self.assertLess(some, self.run_json("contours", "egg.asc", "--interval", "1m", "-o", "all.geojson")["lines"])
        points = [self.run_json("contours", "egg.asc", "--interval", "1m", *words, "-o", "p.geojson", "--overwrite")["points"] for words in ((), ("--smooth", "1m"))]
        self.assertLess(points[1], 0.8 * points[0])
        self.run_tool("contours", "g.asc", "--levels", "50,60,70m", "--bands", "-o", "bands.geojson")
        with open(self.path("bands.geojson")) as f:
            bands = json.load(f)["features"]
        self.assertEqual([(b["properties"].get("from"), b["properties"].get("to")) for b in bands], [(None, 50), (50, 60), (60, 70), (70, None)])
        for words, expect in (("--levels 1,two", "'two'"), ("--levels 1,2m --interval 1m", "more than one way"), ("--levels 1,2m --base 1m", "--base"), ("--bands --shortest 5m --interval 1m", "--shortest"), ("--levels 900m", "between"), ("--levels 1,,2m", "''")):
            self.assertIn(expect, self.refused("contours", "g.asc", *words.split(), "-o", "n.gpkg", status=2))
        area = ["--interval", "2m", "--area", "box:677030,5841990,677034,5841994@EPSG:32725"]
        self.assertLess(len(levels(*area)), len(levels("--interval", "2m", "--margin", "1m", "--area", INSIDE)))

    def test_spots_options(self):
        ys, xs = numpy.mgrid[0:ROWS, 0:COLS]
        z = numpy.round(60 + 5 * numpy.sin(xs / 2) * numpy.sin(ys / 2) + xs / 9, 2)
        asc(self.path("egg.asc"), z)

        def spots(*words):
            self.run_tool("spots", "egg.asc", *words, "-o", "s.geojson", "--overwrite")
            with open(self.path("s.geojson")) as f:
                return [(p["properties"]["kind"], p["properties"]["height"]) for p in json.load(f)["features"]]

        many, few, tall = spots("--radius", "4m"), spots("--radius", "14m"), spots("--radius", "4m", "--relief", "1.5m")
        self.assertTrue({h for _, h in many} <= set(z.ravel()))
        self.assertLess(len(few), len(many))
        self.assertLess(len(tall), len(many))
        self.assertGreater(len(spots("--radius", "4m", "--margin", "3m", "--area", INSIDE)), 0)
        self.assertIn("stands out", self.refused("spots", "egg.asc", "--relief", "500m", "-o", "n.csv", status=2))
        self.assertIn("radius", self.refused("spots", "egg.asc", "--radius", "1m", "-o", "n.csv", status=2))

    def test_section_options(self):
        z = self.valley()
        self.run_tool("section", "valley.asc", "--down-from", f"{WEST + 51},{NORTH - 11}", "-o", "down.csv")
        heights = [float(r["value"]) for r in self.table("down.csv")]
        self.assertTrue(all(a >= b - 1e-3 for a, b in zip(heights, heights[1:])), "water rises")
        self.assertAlmostEqual(heights[0], z[5, 25], places=2)
        self.run_tool("section", "valley.asc", "--down-from", f"{WEST + 51},{NORTH - 11}", "--sea", "36m", "-o", "sea.csv")
        self.assertLess(len(self.table("sea.csv")), len(heights))
        for words, expect in (("--down-from 1,1", "outside"), (f"--sea 0m --from {WEST + 3},{NORTH - 3} --to {WEST + 9},{NORTH - 9}", "--down-from"), (f"--down-from {WEST + 51},{NORTH - 11} --to {WEST + 9},{NORTH - 9}", "two lines")):
            self.assertIn(expect, self.refused("section", "valley.asc", *words.split(), "-o", "n.csv", status=2))
        with open(self.path("line.csv"), "w") as f:
            f.write("")
        one = self.make("section g.asc --from 677003,5841960 --to 677044,5841960 --step 1m", "a.csv")
        other = self.make("section g.asc --from 677003,5841960 --bearing 90deg --length 41m --step 1m", "b.csv")
        self.assertEqual(one.count("\n"), other.count("\n"))
        self.assertGreater(one.count("\n"), self.make("section g.asc --from 677003,5841960 --to 677044,5841960", "c.csv").count("\n"))
        self.assertIn("<svg", self.make("section g.asc --from 677003,5841960 --to 677044,5841960 --title Ridge", "d.svg"))
        with open(self.path("line.geojson"), "w") as f:
            json.dump(RILL, f)
        self.assertIn("distance", self.make("section g.asc --line line.geojson", "e.csv"))
        self.run_tool("correct", "g.asc", "--offset", "2m", "-o", "up.tif")
        along = "--from 677003,5841960 --to 677044,5841960"
        said = self.run_json("section", "g.asc", "up.tif", *along.split(), "-o", "two.csv")
        rows = self.table("two.csv")
        self.assertEqual(list(rows[0]), ["distance", "x", "y", "g", "up", "slope"])
        both = [(float(r["g"]), float(r["up"])) for r in rows if r["g"] and r["up"]]
        numpy.testing.assert_allclose([b - a for a, b in both], 2, atol=2e-4)
        self.assertEqual(said["cut_area"], 0)
        self.assertAlmostEqual(said["fill_area"], 2 * (len(both) - 1) * said["length"] / (len(rows) - 1), delta=0.05 * said["fill_area"])
        # Slope by hand, in percent.
        r = [(float(x["distance"]), float(x["g"])) for x in rows[:3]]
        self.assertAlmostEqual(float(rows[1]["slope"]), 100 * (r[2][1] - r[0][1]) / (r[2][0] - r[0][0]), places=1)
        with open(self.path("centre.geojson"), "w") as f:
            json.dump({"type": "LineString", "coordinates": [[677006, 5841980], [677042, 5841980]], "crs": {"type": "name", "properties": {"name": "EPSG:32725"}}}, f)
        across = ["g.asc", "up.tif", "--across", "centre.geojson", "--every", "9m", "--width", "12m"]
        said = self.run_json("section", *across, "-o", "across.csv")
        rows = self.table("across.csv")
        self.assertEqual(sorted({float(r["station"]) for r in rows}), [0, 9, 18, 27, 36] if said["sections"] == 5 else [0, 9, 18, 27])
        self.assertEqual((min(float(r["offset"]) for r in rows), max(float(r["offset"]) for r in rows)), (-6, 6))
        left = next(r for r in rows if float(r["offset"]) == -6)
        self.assertGreater(float(left["y"]), 5841980, "left of a line to the east is north")
        self.assertGreater(said["fill_volume"], 0)
        self.assertEqual(said["sections"], len({r["station"] for r in rows}))
        for name in ("across.pdf", "across.svg", "across.dxf", "across.gpkg"):
            self.assertEqual(self.run_json("section", *across, "-o", name)["sections"], said["sections"])
        for words, expect in (("--stations 0m -o n.png", "some way apart"), ("--stations 0.1m -o n.png", "or more"), ("--stations 5m -o n.csv", ".png"),
                              ("--by-time -o n.png", "times"), ("--by-time -o n.csv", ".png")):
            self.assertIn(expect, self.refused("section", "g.asc", *along.split(), *words.split(), status=(2, 3)))
        self.run_tool("section", "g.asc", *along.split(), "--stations", "5m", "-o", "stations.png")
        self.run_tool("section", "g.asc", *along.split(), "-o", "plain.png")
        self.assertGreater(png(open(self.path("stations.png"), "rb").read()).shape[0], png(open(self.path("plain.png"), "rb").read()).shape[0])
        self.run_tool("section", "g.asc", *along.split(), "-o", "walk.gpx")
        with open(self.path("walk.gpx")) as f:
            walk = f.read()
        places = iter(range(10000))
        with open(self.path("walk.gpx"), "w") as f:
            f.write(re.sub("</trkpt>", lambda m: f"<time>2026-05-03T09:{next(places) // 60:02}:{next(places) % 60:02}Z</time></trkpt>", walk))
        self.run_tool("section", "g.asc", "--line", "walk.gpx", "-o", "distance.svg")
        self.run_tool("section", "g.asc", "--line", "walk.gpx", "--by-time", "-o", "time.svg")
        with open(self.path("distance.svg")) as a, open(self.path("time.svg")) as b:
            self.assertNotEqual(a.read(), b.read())
        self.run_tool("section", "g.asc", "--line", "walk.gpx", "-o", "walk.csv")
        with open(self.path("walk.csv")) as f:
            times = [row["time"] for row in csv.DictReader(f)]
        self.assertEqual(times, sorted(times))
        self.assertTrue(times[0].startswith("2026-05-03T09:00:0"))
        # Several lines of a file: a table, a sheet and lines with their names.
        ways = {"type": "FeatureCollection", "crs": {"type": "name", "properties": {"name": "EPSG:32725"}}, "features": [
            {"type": "Feature", "properties": {"name": n} if n else {}, "geometry": {"type": "LineString", "coordinates": [[WEST + 3, NORTH - y], [WEST + 25, NORTH - y - 2]]}} for n, y in (("upper", 5), ("", 15))]}
        with open(self.path("ways.geojson"), "w") as f:
            json.dump(ways, f)
        several = self.run_json("section", "g.asc", "--line", "ways.geojson", "-o", "ways.csv")
        self.assertEqual([l["name"] for l in several["lines"]], ["upper", "B"])
        with open(self.path("ways.csv")) as f:
            rows = f.read().splitlines()
        self.assertEqual(rows[0], "line,distance,x,y,g,slope")
        self.assertEqual({r.split(",")[0] for r in rows[1:]}, {"upper", "B"})
        for name in ("ways.png", "ways.gpkg"):
            self.run_tool("section", "g.asc", "--line", "ways.geojson", "-o", name)
        swath = self.run_json("section", "g.asc", *along.split(), "--swath", "8m", "-o", "swath.csv")
        for r in self.table("swath.csv"):
            if r["mean"]:
                self.assertTrue(float(r["lowest"]) <= float(r["mean"]) <= float(r["highest"]))
        self.assertGreater(swath["points"], 10)
        with open(self.path("marks.csv"), "w") as f:
            f.write("x,y,name\n677020,5841960,Cairn\n677020,5841999,Far\n")
        said = self.run_json("section", "g.asc", *along.split(), "--marks", "marks.csv", "-o", "marked.svg")
        self.assertEqual([m["name"] for m in said["marks"]], ["Cairn"])
        one, other = (self.make(f"section g.asc {along} {more}", f"x{n}.svg") for n, more in enumerate(("", "--exaggerate 1")))
        self.assertNotEqual(one, other)
        for words, expect in ((["g.asc", "up.tif", *along.split(), "--swath", "8m"], "one surface"), (["g.asc", "--across", "centre.geojson"], "--every 50m"), (["g.asc", *along.split(), "--across", "centre.geojson", "--every", "5m", "--width", "4m"], "two lines"), (["g.asc", *along.split(), "--exaggerate", "-1"], "exaggeration"), (["g.asc", "--across", "centre.geojson", "--every", "0m", "--width", "4m"], "above zero"), (["g.asc"] * 9 + along.split(), "surfaces")):
            self.assertIn(expect, self.refused("section", *words, "-o", "n.csv", status=2))

    def test_sample_options(self):
        z = ground()
        self.assertAlmostEqual(self.run_json("sample", "g.asc", "--at", f"{WEST + 9},{NORTH - 9}")["points"][0]["value"], z[4, 4], places=4)
        with open(self.path("places.csv"), "w") as f:
            f.write(f"x,y\n{WEST + 9},{NORTH - 9}\n")
        self.run_tool("sample", "g.asc", "--points", "places.csv", "--crs", "EPSG:32725", "-o", "heights.csv")
        self.assertAlmostEqual(float(self.table("heights.csv")[0]["value"]), z[4, 4], places=3)
        lidar = [self.run_json("sample", "small.las", "--at", "677450,5841600", "--radius", r) for r in ("30m", "60m")]
        self.assertNotEqual(*lidar)

    def test_map_options(self):
        with open(self.path("line.geojson"), "w") as f:
            json.dump(RILL, f)
        with open(self.path("places.csv"), "w") as f:
            f.write(f"x,y,name\n{WEST + 9},{NORTH - 9},Cairn\n")
        self.run_tool("find", "--in", DEMO, "--area", AREA, "-o", "tiles.geojson")
        self.run_tool("streams", "g.asc", "--from-area", "40m2", "-o", "s.geojson")
        self.run_tool("basins", "g.asc", "--from-area", "40m2", "-o", "b.geojson")
        self.run_tool("depressions", "g.asc", "-o", "w.geojson")
        plain = self.make("map g.asc --width 400", "a.svg")
        for n, more in enumerate(("--title Rill", "--contours 2m", "--spots 6m", f"--area {INSIDE}", "--line line.geojson", "--from 677003,5841965 --to 677040,5841990", "--from 677003,5841965 --bearing 60deg --length 30m", "--points places.csv", "--tiles tiles.geojson", "--exaggerate 4", "--no-shade", "--streams s.geojson", "--basins b.geojson", "--water w.geojson")):
            self.assertNotEqual(plain, self.make("map g.asc --width 400 " + more, f"a{n}.svg"), more)
        self.assertNotEqual(plain, self.make("map g.asc --width 400 --grid-lines", "lined.svg"))
        self.run_tool("picture", "g.asc", "-o", "back.png")
        with open(self.path("own.toml"), "w") as f:
            f.write('[[layer]]\nkind = "contours"\ninterval = "2m"\n')
        for n, more in enumerate(("--style own.toml", "--light sky", "--shore 60m", "--waypoints places.csv", "--reference g.asc --contours 2m",
                                  "--backdrop back.png", "--graticule degrees", "--graticule EPSG:32726", "--inset g.asc", "--sources Nobody",
                                  "--licence Free", "--date 2026")):
            self.assertNotEqual(plain, self.make("map g.asc --width 400 " + more, f"styled{n}.svg"), more)
        with open(self.path("ramp.txt"), "w") as f:
            f.write("0 #102030\n60 #ff8040\n90 255 255 255\n")
        for n, more in enumerate(("--ramp ramp.txt", "--classes 55,60,65m", "--classes natural:4", "--classes quantile:3 --ramp ramp.txt")):
            self.assertNotEqual(plain, self.make("map g.asc --width 400 " + more, f"coloured{n}.svg"), more)
        with open(self.path("bad.txt"), "w") as f:
            f.write("9 #102030\n6 #ff8040\n")
        for words, expect in (("--ramp bad.txt", "line 2"), ("--ramp nowhere.txt", "nowhere.txt"), ("--classes even:3", "natural"), ("--classes equal:1", "2 to")):
            self.assertIn(expect, self.refused("map", "g.asc", *words.split(), "-o", "n.png", status=(2, 3, 4)))
        paper = self.run_json("map", "g.asc", "--page", "A5", "--scale", "1:500", "--dpi", "72", "-o", "paper.png")
        self.assertEqual((paper["scale"], paper["width"]), (500, 420 if paper["width"] < paper["height"] else 595))

    def test_picture_options(self):
        self.run_tool("find", "--in", DEMO, "--area", AREA, "-o", "tiles.geojson")
        with open(self.path("line.geojson"), "w") as f:
            json.dump(RILL, f)
        with open(self.path("places.csv"), "w") as f:
            f.write(f"x,y,name\n{WEST + 9},{NORTH - 9},Cairn\n")
        for verb, name in (("streams", "s"), ("basins", "b")):
            self.run_tool(verb, "g.asc", "--from-area", "40m2", "-o", f"{name}.geojson")
        self.run_tool("picture", "g.asc", "-o", "back.tif")
        with open(self.path("own.toml"), "w") as f:
            f.write('[[layer]]\nkind = "contours"\ninterval = "2m"\n')

        def made(more):
            self.run_tool("picture", "g.asc", *more.split(), "-o", "p.png", "--overwrite")
            with open(self.path("p.png"), "rb") as f:
                return f.read()

        plain = made("--width 96")
        for more in ("--contours 2m", "--spots 4m", f"--area {INSIDE}", "--line line.geojson", "--from 677003,5841965 --to 677040,5841990", "--from 677003,5841965 --bearing 60deg --length 30m", "--points places.csv", "--tiles tiles.geojson", "--exaggerate 4", "--no-shade", "--streams s.geojson", "--basins b.geojson", "--water b.geojson",
                     "--style own.toml", "--light sky", "--shore 60m", "--waypoints places.csv", "--reference g.asc --contours 2m", "--backdrop back.tif"):
            self.assertNotEqual(plain, made("--width 96 " + more), more)
        self.assertNotEqual(plain, made(""))
        with open(self.path("ramp.txt"), "w") as f:
            f.write("0 #102030\n60 #ff8040\n90 255 255 255\n")
        self.assertNotEqual(plain, made("--width 96 --ramp ramp.txt"))
        self.assertNotEqual(plain, made("--width 96 --classes equal:4"))

    def test_heightmap_options(self):
        def made(*words):
            self.run_tool("heightmap", "g.asc", *words, "-o", "h.raw", "--overwrite")
            with open(self.path("h.raw"), "rb") as f:
                return f.read()

        plain = made()
        self.assertEqual(len(plain), 2 * COLS * ROWS)
        self.assertEqual(len(made("--depth", "8")), COLS * ROWS)
        self.assertEqual(len(made("--size", "9x7")), 2 * 9 * 7)
        for words in (("--range", "40m,90m"), ("--sea", "70"), ("--margin", "1m", "--area", INSIDE)):
            self.assertNotEqual(plain, made(*words), words)

    def test_solid_options(self):
        made = lambda more: self.run_json("solid", "g.asc", *more.split(), "-o", "s.stl", "--overwrite")
        plain = made("--scale 1000")
        self.assertAlmostEqual(made("--bed 100mmx100mm")["size_mm"][0], 100, places=2)
        for more in ("--exaggerate 3", "--base 9mm", "--error 2mm", "--water 60m", f"--area {INSIDE}", f"--area {INSIDE} --margin 2m"):
            other = made("--scale 1000 " + more)
            self.assertNotEqual((plain["size_mm"], plain["triangles"]), (other["size_mm"], other["triangles"]), more)
        self.assertGreater(made("--scale 1000 --water 60m --step 5mm")["size_mm"][2], made("--scale 1000 --water 60m")["size_mm"][2])
        self.assertGreater(made("--scale 1000 --water 60m --water-body")["water"], 0)
        several = made("--scale 500 --bed 60mmx60mm --tiles")
        self.assertGreater(several["across"] * several["down"], 1)
        for more in ("--tab 3mm", "--gap 2mm --tab 11mm"):
            self.assertNotEqual(several["tiles"], made("--scale 500 --bed 60mmx60mm --tiles " + more)["tiles"], more)

    def features(self, words, out="w.geojson"):
        self.run_tool(*words.split(), "-o", out, "--overwrite")
        with open(self.path(out)) as f:
            return json.load(f)["features"]

    def valley(self, name="valley.asc", holes=False):
        """A valley to the south with a bank across it, and a pond beside; voids at the foot of the bank."""
        rows, cols = 60, 41
        ys, xs = numpy.mgrid[0:rows, 0:cols]
        z = 40 - 0.1 * ys + 0.3 * abs(xs - 20)
        z[30:32] += 2
        z[8:12, 4:9] -= 1.5
        if holes:
            z[28:30, 18:23] = numpy.nan
        asc(self.path(name), numpy.nan_to_num(numpy.round(z, 3), nan=-9999))
        return numpy.round(z, 3)

    def test_depressions_options(self):
        z = self.valley()
        found = self.features("depressions valley.asc")
        by_depth = sorted(f["properties"]["depth"] for f in found)
        self.assertEqual(len(found), 2)
        lake = max(found, key=lambda f: f["properties"]["volume_m3"])["properties"]
        self.assertAlmostEqual(lake["sill"], z[30, 20], places=3)
        self.assertAlmostEqual(lake["depth"], z[30, 20] - z[29, 20], places=3)
        self.assertAlmostEqual(lake["volume_m3"], (numpy.maximum(z[30, 20] - z[:30], 0) * (abs(numpy.arange(41) - 20) < 12)).sum() * CELL**2, delta=60)
        fill, carve, least = (self.make(f"depressions valley.asc {w}") for w in ("--fill", "--carve", "--least"))
        self.assertTrue((fill >= z - 1e-4).all() and fill[29, 20] > z[29, 20])
        self.assertTrue((carve <= z + 1e-4).all() and carve[30, 20] < z[30, 20])
        self.assertTrue(least[30, 20] < z[30, 20])
        for more in ("--longest 2m", "--deepest 1m"):
            self.assertGreater(self.make(f"depressions valley.asc --carve {more}")[29, 20], z[29, 20], more)
        for more, kept in (("--keep-deeper 1.6m", 1), ("--keep-deeper 0.5m", 2), ("--keep-larger 100m2", 1), ("--keep-in box:677000,5841970,677020,5842000@EPSG:32725", 1)):
            said = self.run_json("depressions", "valley.asc", "--fill", *more.split(), "-o", "k.tif", "--overwrite")
            self.assertEqual(said["depressions"]["kept"], kept, more)
        sea = self.make("depressions g.asc --fill --sea 50m")
        self.assertTrue(numpy.isnan(sea[:2, :2]).all())
        self.assertGreater(self.make(f"depressions g.asc --fill --area {INSIDE} --margin 4m").size, self.make(f"depressions g.asc --fill --area {INSIDE}").size)
        self.assertEqual(len(self.features("depressions valley.asc --keep-deeper 1.6m")), 1)
        self.assertEqual(len(self.features("depressions valley.asc --keep-deeper 0.5m")), 2)
        self.assertEqual(len(self.features("depressions valley.asc --keep-larger 100m2")), 1)
        self.assertEqual(len(self.features("depressions valley.asc --keep-in box:677000,5841970,677020,5842000@EPSG:32725")), 1)
        self.culvert()
        self.assertEqual(len(self.features("depressions valley.asc --burn culvert.geojson")), 1)
        self.assertIn("--keep-in: 'nowhere'", self.refused("depressions", "valley.asc", "--keep-in", "nowhere", "-o", "n.gpkg", status=2))
        holed = self.valley("holed.asc", holes=True)
        self.assertGreater((self.make("depressions holed.asc --fill --voids around") > holed).sum(), (self.make("depressions holed.asc --fill") > holed).sum())
        for words, expect, status in (("--fill --carve", "more than one way", 2), ("--deepest 1m", "--least", 2), ("--fill --deepest 0m", "above zero", 2), ("--fill --keep-larger 9", "10ha", 2)):
            self.assertIn(expect, self.refused("depressions", "valley.asc", *words.split(), "-o", "n.gpkg" if words.startswith("--deepest") else "n.tif", status=status))
        self.assertIn(".gpkg", self.refused("depressions", "valley.asc", "-o", "n.tif", status=3))
        self.assertIn("one go", self.refused("depressions", "valley.asc", "-o", "n.gpkg", "--dry-run", status=2))
        self.assertIn(".tif", self.refused("depressions", "valley.asc", "--fill", "-o", "n.gpkg", status=3))
        self.run_tool("slope", "valley.asc", "-o", "steep.tif")
        self.assertIn("not heights", self.refused("depressions", "steep.tif", "-o", "n.gpkg", status=3))

    def degrees(self, *places):
        done = subprocess.run(["cs2cs", "-f", "%.10f", "EPSG:32725", "+to", "+proj=longlat", "+datum=WGS84", "+type=crs"], input="\n".join(f"{x} {y}" for x, y in places), capture_output=True, text=True, check=True)
        return [[float(v) for v in line.split()[:2]] for line in done.stdout.splitlines()]

    def culvert(self):
        with open(self.path("culvert.geojson"), "w") as f:
            json.dump({"type": "Feature", "properties": {}, "geometry": {"type": "LineString", "coordinates": self.degrees((WEST + 41, NORTH - 57), (WEST + 41, NORTH - 67))}}, f)

    def drains(self, verb, words):
        """How depressions are taken out is told and can be chosen, in all that follow water."""
        self.valley()
        for more, expect in (("", "2 carved"), ("--depressions fill", "0 carved"), ("--depressions carve --longest 2m", "0 carved"), ("--depressions carve --deepest 1m", "0 carved"), ("--keep-deeper 1.6m", "1 kept"), ("--keep-larger 100m2", "1 kept"), ("--keep-in box:677000,5841970,677020,5842000@EPSG:32725", "1 kept")):
            self.assertIn(expect, self.run_tool(verb, "valley.asc", *words.split(), *more.split(), "--overwrite").stdout, more)
        self.assertIn("2 kept", self.run_tool(verb, "valley.asc", *words.split(), "--keep-deeper", "0.5m", "--overwrite").stdout)
        self.culvert()
        holed = self.valley("holed.asc", holes=True)
        leave, around = (self.run_json(verb, "holed.asc", *words.split(), *more.split(), "--overwrite") for more in ("", "--voids around"))
        self.assertGreater(leave["leaving_cells"], around["leaving_cells"])
        self.assertEqual(leave["cells"], (~numpy.isnan(holed)).sum())
        self.assertIn("2 cells lowered under lines", self.run_tool(verb, "valley.asc", *words.split(), "--burn", "culvert.geojson", "--overwrite").stdout)
        self.run_tool("slope", "valley.asc", "-o", "steep.tif", "--overwrite")
        self.assertIn("not heights", self.refused(verb, "steep.tif", *words.split(), "--overwrite", status=3))

    def test_flow_options(self):
        self.valley()
        cells, area, direction = (self.make(f"flow valley.asc --as {a}") for a in ("cells", "area", "direction"))
        self.assertEqual(cells[59, 20], cells.size)
        numpy.testing.assert_allclose(area, cells * area[0, 0] / cells[0, 0], rtol=1e-4)
        self.assertEqual(direction[20, 20], 5)  # south
        self.assertTrue((direction[59, 18:23] == [3, 3, 9, 7, 7]).all() or direction[59, 20] == 9)
        wet, power = (self.make(f"flow valley.asc --as {a}") for a in ("wetness", "power"))
        angle, several = (self.make(f"flow valley.asc --neighbours {n}") for n in ("any-angle", "several"))
        self.assertTrue(angle[59, 20] == several[59, 20] == area[59, 20])
        self.assertFalse(numpy.allclose(angle, several) or numpy.allclose(angle, area))
        asc(self.path("rain.asc"), numpy.full((60, 41), 3.0))
        numpy.testing.assert_allclose(self.make("flow valley.asc --weights rain.asc"), 3 * area, rtol=1e-4)
        for words, expect in (("--neighbours several --as cells", "one neighbour"), ("--weights g.asc", "other")):
            self.assertIn(expect, self.refused("flow", "valley.asc", *words.split(), "-o", "n.tif", status=2))
        self.assertGreater(wet[50, 20], wet[50, 10])
        self.assertGreater(power[50, 20], power[50, 10])
        above, far = (self.make(f"flow valley.asc --as {a} --from-area 400m2") for a in ("height-above", "distance"))
        self.assertAlmostEqual(above[50, 25], 1.5, delta=0.4)
        self.assertTrue(above[50, 20] == 0 == far[50, 20] < far[50, 25] < far[50, 30])
        self.assertTrue(numpy.isnan(self.make("flow g.asc --sea 50m")[:2, :2]).all())
        self.assertGreater(self.make(f"flow g.asc --area {INSIDE} --margin 4m").size, self.make(f"flow g.asc --area {INSIDE}").size)
        for words, expect in (("--as distance", "--from-area"), ("--from-area 1ha", "--as height-above"), ("--as distance --from-area 1m2", "every cell"), ("--as distance --from-area 1", "10ha"), ("--depressions none", "--depressions"), ("--as slope", "--as")):
            self.assertIn(expect, self.refused("flow", "valley.asc", *words.split(), "-o", "n.tif", status=2))
        self.drains("flow", "-o f.tif")

    def test_streams_options(self):
        z = self.valley()
        reaches = self.features("streams valley.asc --from-area 2000m2")
        self.assertEqual(len(reaches), 1)
        p, line = reaches[0]["properties"], reaches[0]["geometry"]["coordinates"]
        self.assertEqual((p["next"], p["strahler"], p["shreve"]), (0, 1, 1))
        self.assertAlmostEqual(p["to_height"], z[59, 20], places=3)
        self.assertAlmostEqual(p["length_m"], CELL * (len(line) - 1), delta=3)
        more = self.features("streams valley.asc --from-area 200m2")
        self.assertGreater(len(more), len(reaches))
        self.assertGreater(max(f["properties"]["strahler"] for f in more), 1)
        shore = self.features("streams valley.asc --from-area 200m2 --sea 38m")
        self.assertGreater(min(f["properties"]["to_height"] for f in shore), z[31, 20] - 4)
        self.assertLess(sum(f["properties"]["length_m"] for f in shore), sum(f["properties"]["length_m"] for f in more))
        self.assertGreater(len(self.features(f"streams g.asc --from-area 30m2 --area {INSIDE} --margin 8m")), 0)
        for words, expect in (("--from-area 3m2", "every cell"), ("--from-area 9km2", "nowhere"), ("--from-area 9", "10ha")):
            self.assertIn(expect, self.refused("streams", "valley.asc", *words.split(), "-o", "n.gpkg", status=2))
        self.drains("streams", "--from-area 400m2 -o s.gpkg")

    def test_basins_options(self):
        self.valley()
        mouth, up = f"{WEST + 41},{NORTH - 119}", f"{WEST + 41},{NORTH - 21}"
        two = [f["properties"] for f in self.features(f"basins valley.asc --outlet {mouth} --outlet {up}")]
        self.assertEqual([(p["number"], p["next"]) for p in two], [(1, 0), (2, 1)])
        self.assertAlmostEqual(two[0]["upstream_m2"], 60 * 41 * CELL**2, delta=10)
        beside = f"{WEST + 47},{NORTH - 119}"
        self.assertLess(self.features(f"basins valley.asc --outlet {beside}")[0]["properties"]["upstream_m2"], 3000)
        missed = self.run_tool("basins", "valley.asc", "--outlet", beside, "-o", "m.gpkg").stdout
        self.assertRegex(missed, r"only \d+ m2 drain to .*--within 7m")
        moved = self.features(f"basins valley.asc --outlet {beside} --within 10m")[0]["properties"]
        self.assertNotIn("only", self.run_tool("basins", "valley.asc", "--outlet", beside, "--within", "7m", "-o", "m.gpkg", "--overwrite").stdout)
        self.assertAlmostEqual(moved["moved_m"], 6, delta=0.1)
        with open(self.path("outlets.csv"), "w") as f:
            f.write("x,y\n" + mouth + "\n" + up + "\n")
        self.assertEqual(len(self.features("basins valley.asc --outlets outlets.csv")), 2)
        reaches = self.features("basins valley.asc --from-area 400m2")
        self.assertEqual(len(reaches), len(self.features("streams valley.asc --from-area 400m2", "s.geojson")))
        self.assertTrue(numpy.isfinite([f["properties"]["mean_slope"] for f in reaches]).all())
        self.features("basins valley.asc --from-area 400m2 --sea 38m")
        self.features(f"basins g.asc --from-area 30m2 --area {INSIDE} --margin 8m")
        for words, expect in (("", "--outlet X,Y"), (f"--outlet {up} --from-area 1ha", "either"), ("--outlet 1,1", "outside"), (f"--outlet {up} --outlet {up}", "another"), ("--from-area 9km2", "smaller")):
            self.assertIn(expect, self.refused("basins", "valley.asc", *words.split(), "-o", "n.gpkg", status=2))
        self.drains("basins", "--from-area 400m2 -o b.gpkg")

    def test_inundation_options(self):
        z = self.valley()
        pond = f"{WEST + 13},{NORTH - 21}"
        wet = self.features("inundation valley.asc --level 38m")
        self.assertEqual(sum(f["properties"]["cells"] for f in wet), (z <= 38).sum() - ((z <= 38)[:32]).sum())
        self.assertEqual(sum(f["properties"]["cells"] for f in self.features("inundation valley.asc --level 38m --all")), (z <= 38).sum())
        chance = self.make("inundation valley.asc --level 38m --chance --uncertainty 0.5m")
        numpy.testing.assert_allclose(chance, [[50 * (1 + math.erf((38 - h) / 0.5 / math.sqrt(2))) for h in row] for row in z], atol=1e-3)
        low = self.features(f"inundation valley.asc --level 42m --from {pond}")[0]["properties"]
        self.assertAlmostEqual(low["deepest"], 42 - z[8:12, 4:9].min(), places=3)
        self.assertGreater(len(self.features(f"inundation g.asc --level 60m --all --area {INSIDE} --margin 8m")), 0)
        self.assertIn("as low", self.run_tool("inundation", "valley.asc", "--level", "38m", "-o", "w.gpkg", "--overwrite").stdout)
        self.assertIn("above the level", self.refused("inundation", "valley.asc", "--level", "38m", "--from", pond, "-o", "n.gpkg", status=2))
        self.assertIn("unit", self.run_tool("inundation", "valley.asc", "--level", "38", "-o", "w.gpkg", "--overwrite").stdout)

    def test_reservoir_options(self):
        z = self.valley()
        (west, south), (east, _) = self.degrees((WEST + 21, NORTH - 63), (WEST + 61, NORTH - 63))
        with open(self.path("dam.geojson"), "w") as f:
            json.dump({"type": "Feature", "properties": {}, "geometry": {"type": "LineString", "coordinates": [[west, south], [east, south]]}}, f)
        place = f"{WEST + 41},{NORTH - 55}"
        words = ["reservoir", "valley.asc", "--dam", "dam.geojson", "--from", place]
        self.run_tool(*words, "--crest", "39m", "--steps", "10", "-o", "s.csv")
        rows = [[float(v) for v in r.values()] for r in self.table("s.csv")]
        self.assertEqual(len(rows), 11)
        behind = z[:31][:, 10:31]
        self.assertAlmostEqual(rows[0][0], behind.min(), delta=0.2)
        level, area, volume = rows[-1]
        self.assertEqual(level, 39)
        wet = z[:31] < 39
        wet[8:12, 4:9] = False  # the pond beside
        self.assertAlmostEqual(area, wet.sum() * CELL**2, delta=0.06 * area)
        self.assertAlmostEqual(volume, (39 - z[:31])[wet].sum() * CELL**2, delta=0.06 * volume)
        said = self.run_json(*words, "--crest", "39m", "-o", "s.geojson")
        self.assertFalse(said["runs_over"])
        low = self.run_json(*words, "-o", "t.geojson")
        self.assertGreater(low["crest"], 39)
        self.run_tool(*words, "--crest", "39m", "--title", "Dam", "-o", "s.png")
        self.assertGreater(os.path.getsize(self.path("s.png")), 3000)
        self.assertIn("sa.csv", self.run_tool(*words, "--crest", "39m", "--area", "box:677010,5841900,677070,5841990@EPSG:32725", "--margin", "4m", "-o", "sa.csv").stdout)
        for more, expect in (("--crest 30m", "below the crest"), ("--crest 39", "unit")):
            done = self.run_tool(*words, *more.split(), "-o", "u.csv", status=(0, 2))
            self.assertIn(expect, done.stdout + done.stderr)
        self.assertIn(".gpkg", self.refused(*words, "-o", "n.tif", status=3))

    def test_points_options(self):
        def points(*words):
            self.run_tool("points", "small.las", *words, "-o", "p.csv", "--write-columns", "x,y,z,class,return,line,time", "--overwrite")
            return self.table("p.csv")

        def column(name, *words):
            return [float(r[name]) for r in points(*words)]

        everything = points()
        self.assertEqual(len(everything), 5084)
        self.assertEqual(set(column("class", "--class", "ground")), {2})
        self.assertNotIn(2, column("class", "--without-class", "2"))
        self.assertEqual(set(column("return", "--returns", "first")), {1})
        self.assertEqual(set(column("line", "--line", "102")), {102})
        self.assertGreaterEqual(min(column("z", "--lowest", "10m")), 10)
        self.assertLessEqual(max(column("z", "--highest", "10m")), 10)
        self.assertGreaterEqual(min(column("time", "--from-time", "331286500")), 331286500)
        self.assertLessEqual(max(column("time", "--to-time", "331286500")), 331286500)
        self.assertEqual(len(points("--every", "10")), 509)
        # None of these is withheld, and only COPC has levels to choose from: both change nothing.
        self.assertEqual(points("--without-withheld", "--spacing", "10m"), everything)
        with open(self.path("small.las"), "rb") as f:
            whole = f.read()
        with open(self.path("cut.las"), "wb") as f:
            f.write(whole[: len(whole) // 2])
        self.assertIn("--salvage", self.refused("points", "cut.las", "-o", "saved.csv", status=3))
        self.run_tool("points", "cut.las", "--salvage", "-o", "saved.csv")
        self.assertTrue(1000 < len(self.table("saved.csv")) < 5000)
        box = "box:677300,5841400,677400,5841500@EPSG:32725"
        self.assertLess(len(points("--area", box)), len(points("--area", box, "--margin", "20m")))
        ground_found = points("--find-ground", "--anew", "--water-level", "0m")
        self.assertNotEqual([r["class"] for r in ground_found], [r["class"] for r in everything])
        self.assertEqual(len(points("--find-noise")), 5084)
        thin = len(points("--thin", "lowest", "--cell", "20m"))
        self.assertTrue(100 < thin < 1000, thin)
        self.run_tool("grid", "small.las", "--cell", "10m", "-o", "below.tif")
        self.assertLess(numpy.median(column("z", "--above", "below.tif")), numpy.median(column("z")) - 5)
        self.run_tool("points", "small.las", "--format", "3", "-o", "three.las")
        with open(self.path("three.las"), "rb") as f:
            self.assertEqual(f.read(105)[104], 3)
        self.run_tool("points", "small.las", "--sheets", "250m", "-o", "sheets.las")
        self.assertGreater(len([f for f in self.files() if "/sheets" in f]), 3)
        self.run_tool("points", "small.las", "--density", "d.tif", "--cell", "25m")
        self.assertGreater(numpy.nanmax(self.values("d.tif")), 0.01)
        pictures = set()
        for words in ("", "--colour-by class", "--title Valley", "--slice-from 677250,5841600 --slice-to 677650,5841600", "--slice-from 677250,5841600 --slice-to 677650,5841600 --slab 40m"):
            self.run_tool("points", "small.las", "--picture", "v.png", "--overwrite", *words.split())
            with open(self.path("v.png"), "rb") as f:
                pictures.add(f.read())
        self.assertEqual(len(pictures), 5)

    def test_grid_options(self):
        def grid(words):
            return self.make("grid small.las --cell 10m " + words)

        plain = grid("")
        self.assertTrue(numpy.isfinite(plain).any())
        for more in ("--method mean", "--method highest --radius 15m", "--longest-edge 12m", "--all-classes", "--without-class 2", "--class 5 --all-classes", "--returns first --all-classes", "--line 101", "--lowest 5m", "--highest 20m", "--every 5", "--from-time 331286500", "--to-time 331286500", "--find-ground --anew", "--water-level 0m --find-ground --anew", "--margin 10m --area box:677300,5841400,677400,5841500@EPSG:32725"):
            self.assertFalse(numpy.array_equal(plain, grid(more), equal_nan=True), more)
        self.run_tool("grid", "small.las", "--cell", "10m", "--with-uncertainty", "-o", "sure.tif")
        sure = self.run_json("look", "sure.tif")[0]["uncertainties"]
        self.assertGreater(sure["cells"], 100)
        picked = self.run_tool("grid", "small.las", "--cell", "10m", "--method", "highest", "--with-uncertainty", "-o", "picked.tif").stdout
        self.assertIn("not known for highest", picked)
        self.assertFalse(self.run_json("look", "picked.tif")[0]["uncertainty"])
        self.assertTrue(0 < sure["lowest"] < sure["median"] < sure["highest"])
        for surface in ("ground", "first", "sea-floor"):
            self.make(f"grid small.las --cell 10m --surface {surface}", "named.tif")
            self.assertIn(surface.split("-")[0], str(self.run_json("look", "named.tif")[0]["surface"]))
        # None is withheld, only COPC has levels to choose from, and noise was found before.
        for more in ("--without-withheld", "--spacing 0.1m", "--find-noise"):
            numpy.testing.assert_array_equal(plain, grid(more), more)
        with open(self.path("small.las"), "rb") as f:
            whole = f.read()
        with open(self.path("cut.las"), "wb") as f:
            f.write(whole[: len(whole) // 2])
        self.assertIn("--salvage", self.refused("grid", "cut.las", "--cell", "10m", "-o", "saved.tif", status=3))
        self.assertTrue(numpy.isfinite(self.make("grid cut.las --cell 10m --salvage", "saved.tif")).any())
        self.make("grid small.las --cell 20m", "frame.tif")
        self.assertEqual(self.make("grid small.las --onto frame.tif").shape, self.values("frame.tif").shape)
        self.assertLess(numpy.nanmean(self.make("grid small.las --cell 10m --above frame.tif")), 5)
        with open(self.path("edges.geojson"), "w") as f:
            json.dump({"type": "LineString", "coordinates": [[-30.9925, -37.5565, 500], [-30.9910, -37.5560, 500]]}, f)
        self.assertGreater(numpy.nanmax(grid("--breaklines edges.geojson")), 400)
        soundings = os.path.join(DEMO, "soundings-2021")
        sounding = sorted(f for f in os.listdir(soundings) if not f.endswith(".toml"))[0]
        self.run_tool("grid", os.path.join(soundings, sounding), "--cell", "20m", "--uncertainty", "u.tif", "-o", "s.tif")
        self.assertGreater(numpy.nanmin(self.values("u.tif")), 0)

    def test_study_options(self):
        shutil.copytree(DEMO, self.path("data"))
        plan = lambda *words: self.run_tool("study", "data/study.toml", "--dry-run", *words).stdout
        coarse = plan("--set", "frame.cell=8m")
        self.assertNotEqual(plan(), coarse)
        self.run_tool("find", "--in", "data", "--area", AREA, "--keep", "data.katalog")
        self.assertEqual(plan("--in", "data.katalog"), plan())
        # A run and its repetition have tests of their own, for they take long.
        self.refused("study", "--again", "data/area.geojson", "-o", "again", status=3)

    def test_serve_options(self):
        def answer(*words, path="search?limit=100", key=None):
            url = self.serve(DEMO, *words)
            request = urllib.request.Request(url + path, headers={"Authorization": "Bearer " + key} if key else {})
            with urllib.request.urlopen(request) as reply:
                return reply.read(), dict(reply.headers), url

        body, _, url = answer("--listen", "127.0.0.1", "--port", "0", "--items", "3", "--book", "none.book")
        self.assertEqual(len(json.loads(body)["features"]), 3)
        self.assertTrue(url.startswith("http://127.0.0.1:"))
        whole = os.path.getsize(os.path.join(DEMO, "coast-2014", "coast.tif"))
        coast = "files/coast-2014/coast.tif"
        start = time.time()
        self.assertEqual(len(answer("--slow", "600K", "--queue", "0", path=coast)[0]), whole)
        self.assertGreater(time.time() - start, 0.5)
        with self.assertRaises(http.client.IncompleteRead):
            answer("--cut-every", "1", path=coast)
        for words, status in ((["--fail-every", "1"], 503), (["--busy-every", "1"], 429)):
            with self.assertRaises(urllib.error.HTTPError) as seen:
                answer(*words, path=coast)
            self.assertEqual(seen.exception.code, status)
        self.assertLess(len(answer("--truncate-every", "1", path=coast)[0]), whole)
        for words, name in ((["--no-ranges"], "whole"), (["--wrong-parts-every", "1"], "wrong")):
            url = self.serve(DEMO, *words)
            with urllib.request.urlopen(urllib.request.Request(url + coast, headers={"Range": "bytes=100-199"})) as reply:
                part = reply.read()
            with open(os.path.join(DEMO, "coast-2014", "coast.tif"), "rb") as f:
                self.assertNotEqual(part, f.read()[100:200], name)
        honest, lying = (json.loads(answer(*words)[0])["features"][0] for words in ([], ["--wrong-sizes"]))
        self.assertNotEqual(honest["assets"], lying["assets"])
        # Restricted tiles open with the key alone; and each request is told.
        restricted = "files/ground-2022/sheet_c3.tif"
        with self.assertRaises(urllib.error.HTTPError):
            answer("--key-file", os.path.join(self.data, "key.txt"), path=restricted)
        self.assertGreater(len(answer("--key-file", os.path.join(self.data, "key.txt"), "--log", path=restricted, key="secret")[0]), 1000)
        # The line follows the reply; it may come a moment after it.
        told = ""
        for _ in range(100):
            with open(self.log) as f:
                told = f.read()
            if "sheet_c3.tif" in told:
                break
            time.sleep(0.05)
        self.assertIn("sheet_c3.tif", told)


if __name__ == "__main__":
    main()

"""Pictures that know where they lie, and height maps: a known place is looked for in each, by readers that are not ours."""
import io
import json
import math
import os
import re
import sqlite3
import subprocess
import unittest
import xml.etree.ElementTree as ElementTree
import zipfile

import numpy
import pikepdf
import tifffile

from tool import ToolTest, main, png

WEST, NORTH, COLS, ROWS = 677000, 5842000, 301, 217
# Cells that stand out: a block of three by three, its middle is the known place.
MARKS = [(40, 30), (250, 60), (150, 190)]


def ppm(data):
    head = re.match(rb"P6\s+(\d+)\s+(\d+)\s+255\s", data)
    return numpy.frombuffer(data[head.end():], numpy.uint8).reshape(int(head[2]), int(head[1]), 3)


def marks_in(pixels, reach=8):
    """Where dark patches lie on light ground, in pixels from the upper left corner, centres at .5."""
    grey = pixels[..., :3].astype(int).sum(axis=2)
    clear = pixels[..., 3] < 128 if pixels.shape[2] == 4 else numpy.zeros(grey.shape, bool)
    dark = (grey < 300) & ~clear
    found = []
    while dark.any():
        r, c = numpy.argwhere(dark)[0]
        box = numpy.zeros(dark.shape, bool)
        box[max(0, r - reach):r + reach + 1, max(0, c - reach):c + reach + 1] = True
        rows, cols = numpy.nonzero(dark & box)
        if len(rows) > 3:
            found.append((cols.mean() + 0.5, rows.mean() + 0.5))
        dark &= ~box
    return found


class Pictures(ToolTest):
    def setUp(self):
        super().setUp()
        z = numpy.full((ROWS, COLS), 250)
        for c, r in MARKS:
            z[r - 2:r + 3, c - 2:c + 3] = 2
        z[100:104, 100:104] = -9999
        self.places = [(WEST + c + 0.5, NORTH - r - 0.5) for c, r in MARKS]
        with open(self.path("marks.asc"), "w") as f:
            f.write(f"ncols {COLS}\nnrows {ROWS}\nxllcorner {WEST}\nyllcorner {NORTH - ROWS}\ncellsize 1\nNODATA_value -9999\n")
            numpy.savetxt(f, z, "%d")
        with open(self.path("marks.prj"), "w") as f:
            f.write("EPSG:32725")
        # A shade is grey as it is.
        with open(self.path("marks.asc.json"), "w") as f:
            json.dump({"quantity": "shade"}, f)

    def lonlat(self):
        text = "\n".join(f"{x} {y}" for x, y in self.places)
        out = subprocess.run(["cs2cs", "-f", "%.10f", "EPSG:32725", "EPSG:4326"], input=text, capture_output=True, text=True, check=True).stdout
        return [(float(l.split()[1]), float(l.split()[0])) for l in out.splitlines()]

    def agree(self, found, expected, pixel, what):
        self.assertEqual(len(found), len(expected), what)
        for x, y in expected:
            off = min(max(abs(x - u) / pixel[0], abs(y - v) / pixel[1]) for u, v in found)
            self.assertLess(off, 0.5, f"{what}: half a pixel {[((x - u) / pixel[0], (y - v) / pixel[1]) for u, v in found]}")

    def world(self, name):
        with open(self.path(name)) as f:
            return [float(v) for v in f.read().split()]

    def test_screens_with_a_world_file(self):
        for name, beside in (("p.png", "p.pgw"), ("p.jpg", "p.jgw")):
            said = self.run_json("picture", "marks.asc", "-o", name)
            self.assertEqual({os.path.basename(b) for b in said["beside"]}, {beside, "p.prj"})
            with open(self.path(name), "rb") as f:
                data = f.read()
            if name.endswith("png"):
                pixels = png(data)
                self.assertTrue((pixels[100:104, 100:104, 3] == 0).all() and (pixels[:90, ..., 3] == 255).all())
            else:
                pixels = ppm(subprocess.run(["djpeg", "-ppm"], input=data, capture_output=True, check=True).stdout)
                self.assertGreater(pixels[100:104, 100:104].min(), 200)
            a, _, _, e, x, y = self.world(beside)
            self.agree([(x + (u - 0.5) * a, y + (v - 0.5) * e) for u, v in marks_in(pixels)], self.places, (a, -e), name)
            with open(self.path("p.prj")) as f:
                self.assertIn("UTM zone 25S", f.read())

    def test_overviews_lie_where_the_file_does(self):
        """A picture far smaller than its file begins with an overview: of odd sizes, of one that is a strip longer each time."""
        cols, rows = 2611, 1303
        z = numpy.full((rows, cols), 250, numpy.uint8)
        places = []
        for c, r in ((300, 200), (2200, 400), (1300, 1100)):
            z[r - 20:r + 21, c - 20:c + 21] = 2
            places.append((WEST + c + 0.5, NORTH - r - 0.5))
        z.tofile(self.path("big.bil"))
        with open(self.path("big.hdr"), "w") as f:
            f.write(f"nrows {rows}\nncols {cols}\nnbands 1\nnbits 8\nbyteorder I\nlayout bil\nulxmap {WEST + 0.5}\nulymap {NORTH - 0.5}\nxdim 1\nydim 1\n")
        with open(self.path("big.prj"), "w") as f:
            f.write("EPSG:32725")
        with open(self.path("big.bil.json"), "w") as f:
            json.dump({"quantity": "shade"}, f)
        self.run_tool("clip", "big.bil", "-o", "big.tif")
        self.assertIn("overviews", self.run_tool("look", "big.tif").stdout)
        for width in (1000, 611, 300):
            for name in ("big.tif", "big.bil"):
                said = self.run_json("picture", name, "--width", width, "-o", f"p{width}.png", "--overwrite")
                pixels = png(open(self.path(f"p{width}.png"), "rb").read())
                a, _, _, e, x, y = self.world(f"p{width}.pgw")
                self.assertEqual(said["width"], width)
                self.agree([(x + (u - 0.5) * a, y + (v - 0.5) * e) for u, v in marks_in(pixels, 45)], places, (a, -e), f"{name} {width}")

    def test_geotiff(self):
        self.run_tool("picture", "marks.asc", "-o", "p.tif")
        with tifffile.TiffFile(self.path("p.tif")) as t:
            page = t.pages[0]
            pixels = page.asarray()
            self.assertEqual(pixels.shape, (ROWS, COLS, 4))
            self.assertTrue((pixels[100:104, 100:104, 3] == 0).all())
            tags = page.geotiff_tags
            self.assertEqual(tags["ProjectedCSTypeGeoKey"], 32725)
            sx, sy, _ = tags["ModelPixelScale"]
            _, _, _, x, y, _ = tags["ModelTiepoint"]
            self.agree([(x + u * sx, y - v * sy) for u, v in marks_in(pixels)], self.places, (sx, sy), "tif")
            self.assertEqual([p.shape[:2] for p in t.pages], [(217, 301), (109, 151)])
            self.assertLess(page.dataoffsets[0], os.path.getsize(self.path("p.tif")))
            half = t.pages[1].asarray().astype(int)
            whole = numpy.pad(pixels, ((0, 1), (0, 1), (0, 0)), "edge").astype(int).reshape(109, 2, 151, 2, 4).sum(axis=(1, 3)) / 4
            self.assertLessEqual(abs(half - whole)[..., :3][half[..., 3] == 255].max(), 1)

    def test_geopackage(self):
        self.run_tool("picture", "marks.asc", "-o", "p.gpkg")
        db = sqlite3.connect(self.path("p.gpkg"))
        self.assertEqual(db.execute("PRAGMA integrity_check").fetchone(), ("ok",))
        self.assertEqual(db.execute("SELECT data_type, srs_id FROM gpkg_contents").fetchall(), [("tiles", 32725)])
        (west, south, east, north), = db.execute("SELECT min_x, min_y, max_x, max_y FROM gpkg_tile_matrix_set")
        levels = db.execute("SELECT zoom_level, matrix_width, tile_width, pixel_x_size, pixel_y_size FROM gpkg_tile_matrix ORDER BY 1").fetchall()
        for _, across, tile, px, _ in levels:
            self.assertAlmostEqual(across * tile * px, east - west, places=6)
        for zoom, _, tile, px, py in levels:
            found = []
            for col, row, blob in db.execute("SELECT tile_column, tile_row, tile_data FROM picture WHERE zoom_level = ?", (zoom,)):
                pixels = png(blob)
                self.assertEqual(pixels.shape[:2], (256, 256))
                found += [(west + (col * tile + u) * px, north - (row * tile + v) * py) for u, v in marks_in(pixels)]
            if px == 1:
                self.agree(found, self.places, (px, py), "gpkg")

    def test_kmz(self):
        for words in ((), ("--width", "2600")):
            self.run_tool("picture", "marks.asc", *words, "-o", "p.kmz", "--overwrite")
            packed = zipfile.ZipFile(self.path("p.kmz"))
            self.assertIsNone(packed.testzip())
            overlays = ElementTree.fromstring(packed.read("doc.kml")).findall(".//{*}GroundOverlay")
            self.assertEqual(len(overlays) > 1, bool(words))
            self.assertGreater(len(overlays), 0)
            found, pixel = [], None
            for o in overlays:
                href = o.find("{*}Icon/{*}href").text
                box = {k: float(o.find(f"{{*}}LatLonBox/{{*}}{k}").text) for k in ("north", "south", "east", "west")}
                if not href.startswith("0/"):
                    continue
                if words:  # a tile is shown when one is near enough
                    self.assertGreater(float(o.find("{*}Region/{*}Lod/{*}minLodPixels").text), 0)
                    continue
                pixels = png(packed.read(href))
                rows, cols = pixels.shape[:2]
                pixel = ((box["east"] - box["west"]) / cols, (box["north"] - box["south"]) / rows)
                found += [(box["west"] + u * pixel[0], box["north"] - v * pixel[1]) for u, v in marks_in(pixels)]
            if not words:
                self.agree(found, self.lonlat(), pixel, "kmz")

    def registered(self, name, dpi, reach=8):
        """Marks of a page, through the viewport of its PDF, as longitude and latitude, and the pixel."""
        with pikepdf.open(self.path(name)) as pdf:
            page = pdf.pages[0]
            view = page.VP[0]
            x0, y0, x1, y1 = (float(v) for v in view.BBox)
            measure = view.Measure
            self.assertEqual((str(measure.Subtype), int(measure.GCS.EPSG)), ("/GEO", 32725))
            self.assertIn("UTM", str(measure.GCS.WKT))
            shares = numpy.array([float(v) for v in measure.LPTS]).reshape(-1, 2)
            places = numpy.array([float(v) for v in measure.GPTS]).reshape(-1, 2)
            tall = float(page.MediaBox[3])
        data = subprocess.run(["pdftocairo", "-png", "-singlefile", "-r", str(dpi), self.path(name), "-"], capture_output=True, check=True).stdout
        found = []
        # Longitude and latitude as a quadric of the place on the viewport, from its eight points.
        terms = lambda u, v: numpy.stack([numpy.ones_like(u), u, v, u * v, u * u, v * v], axis=-1)
        fit = numpy.linalg.lstsq(terms(shares[:, 0], shares[:, 1]), places, rcond=None)[0]
        for u, v in marks_in(png(data), reach):
            x, y = u * 72 / dpi, tall - v * 72 / dpi
            if x0 + 9 < x < x1 - 9 and y0 + 9 < y < y1 - 9:
                lat, lon = terms(numpy.array((x - x0) / (x1 - x0)), numpy.array((y - y0) / (y1 - y0))) @ fit
                found.append((lon, lat))
        return found, (1 / (111320 * math.cos(math.radians(37.55))), 1 / 110990)

    def test_registered_pdf(self):
        self.run_tool("picture", "marks.asc", "-o", "p.pdf")
        found, pixel = self.registered("p.pdf", 150)
        self.agree(found, self.lonlat(), pixel, "pdf")
        # A map's own frame, within the page.
        self.run_tool("map", "marks.asc", "-o", "m.pdf")
        found, pixel = self.registered("m.pdf", 72, 30)
        self.agree(found, self.lonlat(), pixel, "map")

    def test_paper(self):
        """A scale is held exactly on every sheet, and the sheets tile the ground."""
        said = self.run_json("map", "marks.asc", "--page", "A6", "--scale", "1:1000", "--grid-lines", "-o", "m.pdf")
        self.assertEqual(said["scale"], 1000)
        self.assertGreater(said["sheets"], 3)
        boxes, text = [], []
        with pikepdf.open(self.path("m.pdf")) as pdf:
            self.assertEqual(len(pdf.pages), said["sheets"])
            for page in pdf.pages:
                self.assertEqual([round(float(v) * 25.4 / 72) for v in list(page.MediaBox)[2:]], [148, 105])
                x0, y0, x1, y1 = (float(v) for v in page.VP[0].BBox)
                places = numpy.array([float(v) for v in page.VP[0].Measure.GPTS]).reshape(-1, 2)
                text += [f"{lat:.10f} {lon:.10f}" for lat, lon in places[[0, 4]]]
                boxes.append((x1 - x0, y1 - y0))
        out = subprocess.run(["cs2cs", "-f", "%.6f", "EPSG:4326", "EPSG:32725"], input="\n".join(text), capture_output=True, text=True, check=True).stdout
        corners = numpy.array([l.split()[:2] for l in out.splitlines()], float).reshape(-1, 2, 2)
        ground = corners[:, 1] - corners[:, 0]
        # On the ground, which the grid of the projection shows a little smaller.
        numpy.testing.assert_allclose(ground / 0.9999775, numpy.array(boxes) * 0.0254 / 72 * 1000, rtol=2e-5)
        self.assertLessEqual(corners[:, 0].min(axis=0)[0], WEST + 0.5)
        self.assertGreaterEqual(corners[:, 1].max(axis=0)[1], NORTH - 0.5)
        self.assertAlmostEqual(sum(g[0] * g[1] for g in ground), numpy.prod(corners[:, 1].max(axis=0) - corners[:, 0].min(axis=0)), delta=1)
        # One sheet, as large as fits; a picture at the dots asked for.
        one = self.run_json("map", "marks.asc", "--page", "A4-portrait", "--dpi", "100", "-o", "m.png")
        self.assertEqual((one["width"], one["height"], one["sheets"]), (827, 1169, 1))
        for words, expect in ((("--page", "A4", "--scale", "1:100"), "sheets"), (("--page", "A9"), "size of paper"), (("--page", "20mmx20mm"), "room for a map"), (("--scale", "1:1000"), "--page"), (("--page", "A4", "--scale", "big"), "no scale")):
            self.assertIn(expect, self.refused("map", "marks.asc", *words, "-o", "n.png", status=(2, 3)))
        with open(self.path("places.csv"), "w") as f:
            f.write(f"x,y,name\n{WEST + 9},{NORTH - 9},Cairn\n")
        with open(self.path("plain.prj"), "w") as f:
            f.write("EPSG:32725")
        os.rename(self.path("marks.asc"), self.path("plain.asc"))  # heights: a legend of colours
        self.assertIn("legend", self.refused("map", "plain.asc", "--page", "140mmx48mm", "--points", "places.csv", "-o", "n.png", status=2))

    def test_drawn_over(self):
        """Lines lie where they do on a map, and the bands of a large picture show no seam."""
        ys, xs = numpy.mgrid[0:ROWS, 0:COLS]
        z = numpy.round(40 + xs / 9 + 10 * numpy.sin(ys / 30), 3)
        with open(self.path("hill.asc"), "w") as f:
            f.write(f"ncols {COLS}\nnrows {ROWS}\nxllcorner {WEST}\nyllcorner {NORTH - ROWS}\ncellsize 1\n")
            numpy.savetxt(f, z, "%.3f")
        with open(self.path("hill.prj"), "w") as f:
            f.write("EPSG:32725")
        plain, lines = ("picture", "hill.asc", "-o", "plain.png"), ("picture", "hill.asc", "--contours", "10m", "-o", "lines.png")
        self.run_tool(*plain)
        self.run_tool(*lines)
        read = lambda name: png(open(self.path(name), "rb").read()).astype(int)
        drawn = abs(read("plain.png") - read("lines.png")).sum(axis=2) > 60
        rows, cols = numpy.nonzero(drawn)
        off = abs(z[rows, cols] - 10 * numpy.round(z[rows, cols] / 10))
        self.assertGreater(len(rows), 200)
        self.assertGreater((off < 0.5).mean(), 0.6)  # the rest are numbers
        wide = self.run_json("picture", "hill.asc", "--width", "9000", "--contours", "10m", "-o", "wide.tif")
        self.assertEqual(wide["width"], 9000)
        with tifffile.TiffFile(self.path("wide.tif")) as t:
            small = t.pages[4].asarray().astype(int)
        # At the seams rows differ from their neighbours no more than elsewhere.
        steps = abs(small[1:, :, :3] - small[:-1, :, :3]).max(axis=(1, 2))
        self.assertLess(steps.max(), 8 * numpy.median(steps) + 60)

    def test_products_as_pictures(self):
        for verb, name in (("hillshade", "s.png"), ("slope", "s.jpg"), ("aspect", "a.kmz"), ("slope", "s.gpkg"), ("hillshade", "s.pdf")):
            with self.subTest(name=name):
                os.replace(self.path("marks.asc.json"), self.path("aside")) if os.path.exists(self.path("marks.asc.json")) else None
                said = self.run_json(verb, "marks.asc", "-o", name)
                self.assertGreaterEqual(said["width"], COLS)
                plan = self.run_json(verb, "marks.asc", "-o", "none" + name, "--dry-run") if "--dry-run" in self.run_tool(verb, "--help").stdout else None
                self.assertFalse(os.path.exists(self.path("none" + name)), plan)

    def test_what_is_refused(self):
        self.assertIn(".bmp", self.refused("picture", "marks.asc", "-o", "p.bmp", status=3))
        os.remove(self.path("marks.prj"))
        self.assertIn("--crs", self.refused("picture", "marks.asc", "-o", "p.kmz", status=3))
        self.assertFalse(os.path.exists(self.path("p.kmz")))
        self.run_tool("picture", "marks.asc", "-o", "bare.png")
        self.assertFalse(os.path.exists(self.path("bare.prj")))
        self.run_tool("picture", "marks.asc", "--crs", "EPSG:32725", "-o", "p.kmz")
        # That of the surface itself, however it says the same.
        with open(self.path("marks.prj"), "w") as f:
            f.write("EPSG:32725")
        self.run_tool("picture", "marks.asc", "-o", "marks.png")
        with open(self.path("marks.prj")) as f:
            self.assertEqual(f.read(), "EPSG:32725")
        with open(self.path("other.prj"), "w") as f:
            f.write("something else")
        self.assertIn("other.prj", self.refused("picture", "marks.asc", "--crs", "EPSG:32725", "-o", "other.png", status=4))
        self.assertFalse(os.path.exists(self.path("other.png")) or os.path.exists(self.path("other.pgw")))


class HeightMaps(ToolTest):
    def setUp(self):
        super().setUp()
        self.z = numpy.fromfunction(lambda r, c: c - 10 + r / 2, (40, 60))
        with open(self.path("g.asc"), "w") as f:
            f.write(f"ncols 60\nnrows 40\nxllcorner {WEST}\nyllcorner {NORTH - 80}\ncellsize 2\n")
            numpy.savetxt(f, self.z, "%g")
        with open(self.path("g.prj"), "w") as f:
            f.write("EPSG:32725")

    def scale(self, name):
        with open(self.path(name + ".json")) as f:
            return json.load(f)

    def heights(self, samples, name):
        s = self.scale(name)
        return s["low"] + (samples - s["first"]) * (s["high"] - s["low"]) / (s["last"] - s["first"])

    def test_every_depth_tells_its_heights(self):
        low, high = self.z.min(), self.z.max()
        for depth, name in ((8, "a.png"), (16, "b.png"), (8, "c.raw"), (16, "d.raw")):
            said = self.run_json("heightmap", "g.asc", "--depth", str(depth), "-o", name)
            self.assertEqual((said["range"], said["cut"]), ([low, high], 0))
            with open(self.path(name), "rb") as f:
                data = f.read()
            if name.endswith("png"):
                parts = png(data)
                samples = parts[..., 0].astype(int) if depth == 8 else parts[..., 0].astype(int) * 256 + parts[..., 1]
            else:
                samples = numpy.frombuffer(data, "<u1" if depth == 8 else "<u2").reshape(40, 60).astype(int)
            self.assertEqual((samples.min(), samples.max()), (0, 2 ** depth - 1))
            numpy.testing.assert_allclose(self.heights(samples, name), self.z, atol=(high - low) / (2 ** depth - 1) * 0.51)
        self.run_tool("heightmap", "g.asc", "--depth", "32", "-o", "e.raw")
        numpy.testing.assert_array_equal(numpy.fromfile(self.path("e.raw"), "<f4").reshape(40, 60), self.z.astype("f4"))

    def test_range_and_sea(self):
        self.run_tool("heightmap", "g.asc", "--range", "0m,30m", "--depth", "8", "-o", "r.raw")
        samples = numpy.fromfile(self.path("r.raw"), "u1").reshape(40, 60)
        self.assertTrue((samples[self.z <= 0] == 0).all() and (samples[self.z >= 30] == 255).all())
        self.run_tool("heightmap", "g.asc", "--sea", "20", "--depth", "8", "-o", "s.raw")
        samples = numpy.fromfile(self.path("s.raw"), "u1").reshape(40, 60).astype(int)
        self.assertTrue((samples[self.z <= 0] == 20).all() and (samples[self.z > 0] > 20).all())
        numpy.testing.assert_allclose(self.heights(samples, "s.raw")[self.z > 0], self.z[self.z > 0], atol=0.2)

    def test_other_sizes_are_square_on_the_ground(self):
        said = self.run_json("heightmap", "g.asc", "--size", "65x65", "-o", "q.raw", "--depth", "32")
        self.assertEqual(said["samples"], [65, 65])
        self.assertAlmostEqual(said["sample_m"], 80 / 65 / 1.0, delta=0.01)
        self.assertAlmostEqual(said["cut"], 1 / 3, places=3)
        scale = self.scale("q.raw")
        got = numpy.fromfile(self.path("q.raw"), "<f4").reshape(65, 65)
        rows, cols = numpy.mgrid[0:65, 0:65]
        x = scale["origin"][0] + (cols + 0.5) * scale["cell"][0] - WEST
        y = NORTH - scale["origin"][1] + (rows + 0.5) * scale["cell"][1]
        inside = (x > 3) & (x < 117) & (y > 3) & (y < 77)
        numpy.testing.assert_allclose(got[inside], (x / 2 - 0.5 - 10 + (y / 2 - 0.5) / 2)[inside], atol=1e-3)

    def test_what_is_refused(self):
        for words, expect, status in (("--size 0x4", "0 samples", 2), ("--size 4", "two values", 2), ("--range 4m", "two values", 2), ("--range 40m,3m", "lower height first", 2), ("--depth 32", "32 bits", 3), ("--sea -4", "no grey", 2), ("--size 1x1", "not possible", 2), ("--size 90000x4", "not possible", 2), ("--depth 12", "--depth", 2)):
            with self.subTest(words=words):
                self.assertIn(expect, self.refused("heightmap", "g.asc", *words.split(), "-o", "n.png", status=status))
                self.assertFalse(os.path.exists(self.path("n.png")) or os.path.exists(self.path("n.png.json")))


if __name__ == "__main__":
    main()

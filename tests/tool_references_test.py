"""References, units, signs and types: what the tool does with heights, against cs2cs and numpy; and what look suspects."""
import json
import os
import subprocess

import numpy as np
import tifffile

from tool import DEMO, ToolTest, main

WEST, NORTH, CELL = 676000.0, 5842000.0, 30.0
ELLIPSOID, EGM96, EGM2008 = 5030, 5773, 3855
METRE, FOOT, US_FOOT = 9001, 9002, 9003


class ReferenceTest(ToolTest):
    def tiff(self, name, z, crs=32725, heights=None, unit=METRE, place=(WEST, NORTH, CELL, CELL), void=None, point=False,
             description=None):
        keys = [(1024, 2 if crs == 4326 else 1), (1025, 2 if point else 1)]
        if crs:
            keys.append((2048 if crs == 4326 else 3072, crs))
        if heights:
            keys.append((4096, heights))
        if unit:
            keys.append((4099, unit))
        flat = [1, 1, 0, len(keys)] + [v for k, x in keys for v in (k, 0, 1, x)]
        tags = [(33550, "d", 3, (place[2], place[3], 0.0)), (33922, "d", 6, (0.0, 0.0, 0.0, place[0], place[1], 0.0)),
                (34735, "H", len(flat), flat)]
        if void is not None:
            tags.append((42113, "s", 0, str(void)))
        path = self.path(name)
        tifffile.imwrite(path, z, extratags=tags, description=description)
        return path

    def found(self, *files, code=None, options=()):
        """Findings of the first file."""
        looked = self.run_json("look", *files, *options)[0]
        return [f for f in looked["findings"] if code is None or f["code"] == code], looked

    # ---------------------------------------------------------------------------------------------------- references

    def test_a_vertical_conversion_agrees_with_cs2cs(self):
        z = (np.add.outer(np.arange(40), np.arange(50)) % 17).astype("float32") + 100
        source = self.tiff("e.tif", z, heights=ELLIPSOID)
        report = self.run_json("clip", source, "--heights", "EGM96", "-o", "g.tif")
        self.assertEqual(report["heights"], "EGM96 height")
        seen, geo = self.read_raster(self.path("g.tif"))
        self.assertEqual(geo["VerticalCSTypeGeoKey"], EGM96)
        picks = [(r, c) for r in range(0, 40, 3) for c in range(0, 50, 3)]
        lines = "".join(f"{WEST + (c + .5) * CELL} {NORTH - (r + .5) * CELL} {z[r, c]}\n" for r, c in picks)
        done = subprocess.run(["cs2cs", "-f", "%.9f", "EPSG:32725", "EPSG:4326"], input=lines, capture_output=True, text=True,
                              check=True)
        places = [line.split()[:2] for line in done.stdout.strip().split("\n")]
        text = "".join(f"{lat} {lon} {z[r, c]}\n" for (lat, lon), (r, c) in zip(places, picks))
        done = subprocess.run(["cs2cs", "-f", "%.6f", "EPSG:4979", "EPSG:4326+5773"], input=text, capture_output=True,
                              text=True, check=True)
        want = [float(line.split()[2]) for line in done.stdout.strip().split("\n")]
        self.assertGreater(abs(want[0] - z[0, 0]), 1)
        np.testing.assert_allclose([seen[r, c] for r, c in picks], want, atol=0.001)
        self.run_tool("mosaic", source, "--heights", "EGM96", "-o", "m.tif")
        table = open(self.path("m.lineage.csv")).read()
        self.assertIn("ellipsoid to EGM96 height", table)

    def test_mosaic_brings_tiles_to_one_reference_and_unit(self):
        z = np.full((20, 20), 50, "float32")
        a = self.tiff("a.tif", z, heights=EGM96)
        b = self.tiff("b.tif", z / 0.3048, heights=ELLIPSOID, unit=FOOT, place=(WEST + 20 * CELL, NORTH, CELL, CELL))
        said = self.refused("mosaic", a, b, "-o", "m.tif", status=3)
        self.assertIn("ellipsoid", said)
        for unit, factor in [("m", 1), ("ftUS", 3937 / 1200)]:
            self.run_tool("mosaic", a, b, "--heights", "EGM96", "--unit", unit, "-o", "m.tif", "--overwrite")
            seen, _ = self.read_raster(self.path("m.tif"))
            np.testing.assert_allclose(seen[:, :20], 50 * factor, atol=1e-4)
            shift = seen[:, 20:] / factor - 50
            self.assertTrue((shift < -4.2).all() and (shift > -4.3).all(), shift)

    def test_every_verb_that_writes_takes_heights_and_unit(self):
        z = np.add.outer(np.arange(30), np.arange(30)).astype("float32") + 10
        source = self.tiff("s.tif", z, heights=EGM96)
        for verb, out in [(("clip",), "a.tif"), (("mosaic",), "b.tif"), (("fill",), "c.tif"), (("reproject",), "d.tif")]:
            report = self.run_json(*verb, source, "--heights", "ellipsoid", "--unit", "ft", "-o", out)
            self.assertEqual((report["heights"], report["unit"]), ("ellipsoid", "ft"), verb)
            self.assertLess(report["range"][1], (68 + 4.3) / 0.3048)
            self.assertTrue(any("EGM96" in n for n in report["notes"]))
        for verb, out in [("hillshade", "e.tif"), ("slope", "f.tif"), ("contours", "g.geojson")]:
            self.run_tool(verb, source, "--heights", "ellipsoid", "--unit", "ft", "-o", out)
        level = json.load(open(self.path("g.geojson")))["features"][0]["properties"]
        self.assertEqual(level["unit"], "ft")

    def test_a_missing_grid_is_named_and_nothing_is_written(self):
        source = self.tiff("s.tif", np.ones((5, 5), "float32"), heights=EGM2008)
        said = self.refused("clip", source, "--heights", "ellipsoid", "-o", "x.tif", status=3)
        self.assertIn("us_nga_egm08_25.tif", said)
        self.assertIn("--shift", said)

    def test_a_shift_by_length_or_surface(self):
        z = np.full((20, 20), 5, "float32")
        source = self.tiff("s.tif", z, heights=ELLIPSOID)
        self.run_tool("clip", source, "--shift", "-0.18m", "-o", "a.tif")
        np.testing.assert_allclose(self.read_raster(self.path("a.tif"))[0], 4.82, atol=1e-6)
        surface = self.tiff("sep.tif", np.full((9, 9), 2, "float32"), unit=FOOT, place=(WEST - 90, NORTH + 90, 100, 100))
        report = self.run_json("mosaic", source, "--shift", surface, "--heights", "chart datum", "-o", "b.tif")
        self.assertEqual(report["heights"], "chart datum")
        np.testing.assert_allclose(self.read_raster(self.path("b.tif"))[0], 5.6096, atol=1e-5)
        self.assertIn("separation sep.tif added", open(self.path("b.lineage.csv")).read())
        # It is read back as what it is.
        self.assertEqual(self.run_json("look", "b.tif")[0]["heights"], "chart datum")

    def test_what_input_does_not_say_is_taken_and_said(self):
        z = np.full((20, 20), 100, "float32")
        source = self.tiff("s.tif", z, crs=None, unit=None)
        said = self.refused("reproject", source, "--crs", "EPSG:32725", "-o", "x.tif", status=3)
        self.assertIn("--from-crs", said)
        report = self.run_json("clip", source, "--crs", "EPSG:32725", "--from-unit", "ft", "--unit", "m", "--heights", "EGM96", "-o", "x.tif")
        np.testing.assert_allclose(self.read_raster(self.path("x.tif"))[0], 30.48, atol=1e-5)
        self.assertTrue(any("EGM96 height was taken" in n for n in report["notes"]))
        other = self.tiff("t.tif", z)
        said = self.refused("clip", other, "--crs", "EPSG:32724", "-o", "y.tif", status=3)
        self.assertIn("EPSG:32725", said)

    # --------------------------------------------------------------------------------------------------------- types

    def test_int16_stays_int16(self):
        z = (np.add.outer(np.arange(40), np.arange(50)) % 300).astype("int16")
        z[3:5, 4:9] = -32768
        a = self.tiff("a.tif", z, heights=EGM96, void=-32768)
        b = self.tiff("b.tif", z, heights=EGM96, void=-32768, place=(WEST + 50 * CELL, NORTH, CELL, CELL))
        for words in [("mosaic", a, b), ("clip", a, "--area", "like:" + b, "--margin", "2km"),
                      ("reproject", a, "--resample", "nearest", "--cell", "20m")]:
            report = self.run_json(*words, "-o", "o.tif", "--overwrite")
            self.assertEqual(report["type"], "int16", words)
            with tifffile.TiffFile(self.path("o.tif")) as f:
                self.assertEqual(f.pages[0].dtype, np.int16)
        report = self.run_json("reproject", a, "--cell", "20m", "-o", "o.tif", "--overwrite")
        self.assertEqual(report["type"], "float32")
        self.assertTrue(any("fractions of int16" in n for n in report["notes"]), report["notes"])
        report = self.run_json("clip", a, "--heights", "ellipsoid", "-o", "o.tif", "--overwrite")
        self.assertTrue(any("int16 heights moved by fractions become float32" in n for n in report["notes"]))

    # --------------------------------------------------------------------------------------------------- suspicions

    def test_feet_taken_for_metres(self):
        rng = np.random.default_rng(2)
        z = (rng.uniform(50, 400, (40, 40))).astype("float32")
        metres, feet = self.tiff("m.tif", z, heights=EGM96), self.tiff("f.tif", z / 0.3048, heights=EGM96)
        found, _ = self.found(feet, metres, code="feet")
        self.assertIn("m.tif", found[0]["message"])
        self.assertEqual(self.found(metres, metres, code="feet")[0], [])
        high = self.tiff("h.tif", z * 40, heights=EGM96)
        self.assertEqual(len(self.found(high, code="feet")[0]), 1)
        survey_feet = self.tiff("u.tif", z, crs=2263, unit=None)
        self.assertIn("ftUS", self.found(survey_feet, code="feet")[0][0]["message"])

    def test_depths_upside_down(self):
        rng = np.random.default_rng(2)
        z = -rng.uniform(5, 90, (40, 40)).astype("float32")
        up, down = self.tiff("up.tif", z, heights=EGM96), self.tiff("down.tif", -z, heights=EGM96)
        found, _ = self.found(down, up, code="depth-sign")
        self.assertIn("up.tif", found[0]["message"])
        named = self.tiff("named.tif", -z, heights=EGM96, description="bathymetry of the inlet")
        self.assertEqual(len(self.found(named, code="depth-sign")[0]), 1)
        self.assertEqual(self.found(up, code="depth-sign")[0], [])
        self.run_tool("clip", down, "--depths", "-o", "turned.tif")
        np.testing.assert_array_equal(self.read_raster(self.path("turned.tif"))[0], z.astype(float))

    def test_half_a_cell_between_nodes_and_cells(self):
        z = np.ones((20, 20), "float32")
        cells = self.tiff("cells.tif", z, heights=EGM96)
        nodes = self.tiff("nodes.tif", z, heights=EGM96, point=True, place=(WEST + 20 * CELL, NORTH, CELL, CELL))
        found, _ = self.found(cells, nodes, code="half-cell")
        self.assertIn("nodes.tif", found[0]["message"])
        right = self.tiff("right.tif", z, heights=EGM96, place=(WEST + 20 * CELL, NORTH, CELL, CELL))
        self.assertEqual(self.found(cells, right, code="half-cell")[0], [])

    def test_pictures_of_heights_and_oblong_cells_and_mercator(self):
        z = (np.add.outer(np.arange(40), np.arange(40)) * 3 % 256).astype("uint8")
        self.assertEqual(len(self.found(self.tiff("p.tif", z, heights=EGM96), code="eight-bit")[0]), 1)
        oblong = self.tiff("o.tif", z.astype("float32"), heights=EGM96, place=(WEST, NORTH, 30.0, 20.0))
        self.assertEqual(len(self.found(oblong, code="oblong")[0]), 1)
        web = self.tiff("w.tif", z.astype("float32"), crs=3857, heights=EGM96, place=(-3450000.0, -4510000.0, 30.0, 30.0))
        found, _ = self.found(web, code="mercator")
        self.assertIn("1.26", found[0]["message"])
        empty = self.tiff("v.tif", np.full((5, 5), -9999, "float32"), heights=EGM96, void=-9999)
        self.assertEqual(len(self.found(empty, code="empty")[0]), 1)

    def test_a_lost_tile_is_offered_the_crs_of_its_neighbours_or_its_area(self):
        lost = os.path.join(DEMO, "ground-2022", "sheet_c1.tif")
        _, looked = self.found(lost)
        self.assertEqual(looked["proposed_crs"][0]["crs"], "EPSG:32725")
        alone = self.tiff("alone.tif", np.ones((40, 40), "float32"), crs=None)
        _, looked = self.found(alone)
        self.assertEqual(looked["proposed_crs"], [])
        _, looked = self.found(alone, options=("--area", "box:-31.05,-37.6,-30.95,-37.5"))
        self.assertEqual(looked["proposed_crs"][0]["crs"], "EPSG:32725")

    def test_a_sound_file_raises_nothing(self):
        sheet = os.path.join(DEMO, "ground-2022", "sheet_b2.tif")
        self.assertEqual(self.found(sheet)[0], [])

    def test_south_up_is_turned_and_rotated_is_made_upright(self):
        z = np.arange(30 * 20).reshape(30, 20).astype("float32")
        up = self.tiff("up.tif", z, heights=EGM96)
        south = self.tiff("south.tif", z[::-1], heights=EGM96, place=(WEST, NORTH - 30 * CELL, CELL, -CELL))
        self.run_tool("clip", south, "-o", "turned.tif")
        np.testing.assert_array_equal(self.read_raster(self.path("turned.tif"))[0], z)
        self.assertEqual(self.run_json("look", south)[0]["bounds"], self.run_json("look", up)[0]["bounds"])
        matrix = (30.0, 5.0, 0.0, WEST, 5.0, -30.0, 0.0, NORTH) + (0.0,) * 7 + (1.0,)
        tifffile.imwrite(self.path("r.tif"), z, extratags=[(34264, "d", 16, matrix)])
        said = self.run_tool("clip", "r.tif", "-o", "x.tif").stdout
        self.assertIn("turned by 9.462 degrees", said)
        self.assertIn("resampled (cubic)", said)
        # Values are a plane in columns and rows, which a cubic keeps: each cell against the inverse of the six terms.
        made, place = self.read_raster(self.path("x.tif"))[:2]
        looked = self.run_json("look", "x.tif")[0]
        west, south, east, north = looked["bounds"]
        cell = float(np.hypot(30, 5))
        self.assertAlmostEqual(looked["cell"][0], cell, places=6)
        inverse = np.linalg.inv(np.array([[30.0, 5.0], [5.0, -30.0]]))
        inside = 0
        for r, c in np.argwhere(np.isfinite(made)):
            col, row = inverse @ (west + (c + 0.5) * cell - WEST, north - (r + 0.5) * cell - NORTH)
            self.assertTrue(-0.01 < col < 20.01 and -0.01 < row < 30.01)
            if 3 < col < 17 and 3 < row < 27:
                inside += 1
                self.assertAlmostEqual(float(made[r, c]), (row - 0.5) * 20 + col - 0.5, delta=0.01)
        self.assertGreater(inside, 250)
        # As pixels that are points it lies half a cell further; a sheared one and one by a world file are read, too.
        for terms in ((30.0, 0.0, 12.0, -30.0), (0.0, 30.0, 30.0, 0.0), (-30.0, 5.0, 5.0, 30.0)):
            a, b, d, e = terms
            matrix = (a, b, 0.0, WEST, d, e, 0.0, NORTH) + (0.0,) * 7 + (1.0,)
            tifffile.imwrite(self.path("s.tif"), z, extratags=[(34264, "d", 16, matrix)])
            cells = self.run_json("look", "s.tif")[0]
            tifffile.imwrite(self.path("w.tif"), z)
            with open(self.path("w.tfw"), "w") as f:
                f.write("\n".join(map(str, (a, d, b, e, WEST + (a + b) / 2, NORTH + (d + e) / 2))))
            np.testing.assert_allclose(self.run_json("look", "w.tif")[0]["bounds"], cells["bounds"], atol=1e-6)
        matrix = (30.0, 60.0, 0.0, WEST, 5.0, 10.0, 0.0, NORTH) + (0.0,) * 7 + (1.0,)
        tifffile.imwrite(self.path("flat.tif"), z, extratags=[(34264, "d", 16, matrix)])
        self.assertIn("makes no cells", self.refused("clip", "flat.tif", "-o", "y.tif", status=3))

    def test_half_floats(self):
        rng = np.random.default_rng(8)
        z = rng.uniform(-500, 500, (40, 33)).astype("float16")
        z[0, :4] = (np.inf, np.nan, 6e-8, -0.0)
        for name, more in (("p", {}), ("t", {"tile": (16, 16)}), ("d", {"compression": "zlib", "predictor": False}), ("b", {"byteorder": ">"})):
            tifffile.imwrite(self.path(name + ".tif"), z, extratags=[(33550, "d", 3, (CELL, CELL, 0.0)), (33922, "d", 6, (0.0, 0.0, 0.0, WEST, NORTH, 0.0))], **more)
            self.run_tool("clip", name + ".tif", "-o", name + "2.tif")
            got = tifffile.imread(self.path(name + "2.tif"))
            want = z.astype("float32")
            want[~np.isfinite(want)] = np.nan
            np.testing.assert_array_equal(got, want)
            self.assertEqual(self.run_json("look", name + ".tif")[0]["type"], "float32")

    def test_a_curved_lattice_is_refused_with_the_way_out(self):
        import netCDF4

        with netCDF4.Dataset(self.path("curved.nc"), "w") as d:
            d.createDimension("j", 8)
            d.createDimension("i", 9)
            for name, units in (("lat", "degrees_north"), ("lon", "degrees_east")):
                v = d.createVariable(name, "f8", ("j", "i"))
                v.units = units
                v[:] = np.arange(72).reshape(8, 9)
            z = d.createVariable("height", "f4", ("j", "i"))
            z.coordinates = "lon lat"
            z[:] = 1
        said = self.refused("look", "curved.nc", status=3)
        self.assertIn("'lon' and 'lat' have a value for each cell", said)
        self.assertIn("katoptra grid", said)

    def test_soundings(self):
        points = np.c_[WEST + np.random.default_rng(4).uniform(0, 500, 60), NORTH - np.random.default_rng(5).uniform(0, 500, 60),
                       np.linspace(2, 9, 60)]
        np.savetxt(self.path("s.txt"), points, fmt="%.3f", header="east;north;depth", comments="", delimiter=";")
        looked = self.run_json("look", "s.txt")[0]
        self.assertEqual((looked["kind"], looked["points"], looked["depths_turned"]), ("soundings", 60, True))
        np.testing.assert_allclose(looked["range"], [-9, -2])
        z = np.full((20, 20), -4.5, "float32")
        source = self.tiff("g.tif", z, heights=EGM96)
        np.savetxt(self.path("s.xyz"), points, fmt="%.3f")
        self.run_tool("sample", source, "--points", "s.xyz", "--crs", "EPSG:32725", "-o", "out.csv")
        rows = open(self.path("out.csv")).read().strip().split("\n")
        self.assertEqual(len(rows), 61)


if __name__ == "__main__":
    main()

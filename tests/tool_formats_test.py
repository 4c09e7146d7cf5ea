"""Every format: written by the tool, read by somebody else; written by somebody else, read by the tool."""
import io
import json
import os
import sqlite3
import struct
import subprocess
import tarfile
import zipfile
import zlib

import h5py
import netCDF4
import numpy as np
import tifffile

from tool import DEMO, ToolTest, main, png

WEST, NORTH, COLS, ROWS, CELL = 676000.0, 5842000.0, 37, 29, 2.0
HEADER = dict(crs="EPSG:32725", heights="EGM96", unit="m")


def surface(kind="float32", voids=True):
    y, x = np.mgrid[0:ROWS, 0:COLS]
    z = 120 + 40 * np.sin(x / 5) + 25 * np.cos(y / 3) + x * 0.01
    z = np.round(z) if np.issubdtype(kind, np.integer) else z
    z = z.astype(kind)
    hole = np.zeros(z.shape, bool)
    if voids:
        hole[5:8, 3:9] = hole[0, 0] = hole[-1, -1] = True
    return z, hole


class FormatTest(ToolTest):
    def source(self, kind="float32", void=None, voids=True):
        """The surface as a plain GeoTIFF made by tifffile."""
        z, hole = surface(kind, voids)
        if void is None:
            void = -32768 if np.issubdtype(kind, np.integer) else -9999
        data = np.where(hole, np.array(void, kind), z)
        name = self.path(f"source_{kind}.tif")
        # GeoTIFF keys: projected, area, EPSG:32725, heights EGM96 in metres.
        keys = (1, 1, 0, 5, 1024, 0, 1, 1, 1025, 0, 1, 1, 3072, 0, 1, 32725, 4096, 0, 1, 5773, 4099, 0, 1, 9001)
        tifffile.imwrite(name, data, extratags=[(33550, "d", 3, (CELL, CELL, 0.0)),
                                                (33922, "d", 6, (0.0, 0.0, 0.0, WEST, NORTH, 0.0)),
                                                (34735, "H", len(keys), keys), (42113, "s", 0, str(void))])
        return name, np.where(hole, np.nan, z.astype("float64"))

    def convert(self, source, name, *options):
        out = self.path(name)
        return out, self.run_json("clip", source, "-o", out, *options)

    def values(self, path, *options):
        """What the tool reads from a file, as an array, through a plain float32 flat file."""
        out = self.path("seen.flt")
        self.run_tool("clip", path, "-o", out, "--overwrite", "--quiet", "--void", "-77777", *options)
        seen = np.fromfile(out, "<f4")
        head = dict(line.split() for line in open(self.path("seen.hdr")))
        seen = seen.reshape(int(head["nrows"]), int(head["ncols"])).astype("float64")
        return np.where(seen == -77777, np.nan, seen), head

    def expect_place(self, report):
        self.assertEqual(report["crs"], "EPSG:32725")
        np.testing.assert_allclose(report["bounds"], [WEST, NORTH - ROWS * CELL, WEST + COLS * CELL, NORTH],
                                   atol=1e-6 * CELL, rtol=0)

    def expect_back(self, path, truth, atol=0.0, heights="EGM96 height"):
        seen, _ = self.values(path)
        np.testing.assert_allclose(seen, truth, atol=atol, rtol=0)
        look = self.run_json("look", path)[0]
        self.expect_place(look)
        self.assertEqual(look["heights"], heights)
        self.assertTrue(look["unit_known"])
        return look

    # ---------------------------------------------------------------------------------------------- text and flat

    def test_ascii_grid(self):
        source, truth = self.source()
        out, report = self.convert(source, "a.asc")
        lines = open(out).read().split("\n")
        self.assertEqual([line.split()[0] for line in lines[:6]],
                         ["ncols", "nrows", "xllcorner", "yllcorner", "cellsize", "NODATA_value"])
        seen = np.loadtxt(out, skiprows=6, dtype="float32").astype("float64")
        np.testing.assert_array_equal(np.where(seen == -9999, np.nan, seen), truth.astype("float32"))
        self.assertEqual(float(lines[2].split()[1]), WEST)
        self.assertEqual(float(lines[3].split()[1]), NORTH - ROWS * CELL)
        self.expect_back(out, truth.astype("float32"))
        self.assertEqual(report["type"], "float32")

    def test_ascii_grid_of_integers_stays_one(self):
        source, truth = self.source("int16")
        out, report = self.convert(source, "a.asc")
        self.assertEqual(report["type"], "int16")
        self.assertEqual(self.expect_back(out, truth)["type"], "int16")

    def test_ascii_grid_as_others_write_it(self):
        z, hole = surface()
        body = "\n".join(" ".join("-9999.00" if h else f"{v:.3f}" for v, h in zip(a, b)) for a, b in zip(z, hole))
        centre = (f"NCOLS {COLS}\r\nNROWS {ROWS}\r\nXLLCENTER {WEST + 1}\r\nYLLCENTER {NORTH - ROWS * CELL + 1}\r\n"
                  f"CELLSIZE {CELL}\r\nnodata_value -9999\r\n")
        # All values on one line, or one value a line: lines mean nothing.
        for i, text in enumerate([body, body.replace("\n", " "), body.replace(" ", "\n")]):
            name = self.path(f"c{i}.asc")
            open(name, "w", newline="").write(centre + text)
            seen, head = self.values(name, "--crs", "EPSG:32725")
            np.testing.assert_allclose(seen, np.where(hole, np.nan, np.round(z.astype("float64"), 3)), atol=1e-5)
            self.assertAlmostEqual(float(head["xllcorner"]), WEST, 6)
            self.assertAlmostEqual(float(head["yllcorner"]), NORTH - ROWS * CELL, 6)

    def test_flat_binary_of_every_layout_type_and_order(self):
        turn = 0
        for kind in ["u1", "i1", "u2", "i2", "u4", "i4", "f4", "f8"]:
            for layout in ["BIL", "BIP", "BSQ"]:
                for order in "<>":
                    turn += 1
                    z = (np.arange(ROWS * COLS).reshape(ROWS, COLS) % 120).astype(order + kind)
                    bands = np.stack([z, z[::-1, :], z[:, ::-1]])
                    data = {"BIL": bands.transpose(1, 0, 2), "BIP": bands.transpose(1, 2, 0), "BSQ": bands}[layout]
                    name = self.path("f." + layout.lower())
                    open(name, "wb").write(b"skip" + data.astype(order + kind).tobytes())
                    pixel = {"u": "UNSIGNEDINT", "i": "SIGNEDINT", "f": "FLOAT"}[kind[0]]
                    open(self.path("f.hdr"), "w").write(
                        f"BYTEORDER {'M' if order == '>' else 'I'}\nLAYOUT {layout}\nNROWS {ROWS}\nNCOLS {COLS}\nNBANDS 3\n"
                        f"NBITS {8 * int(kind[1])}\nPIXELTYPE {pixel}\nSKIPBYTES 4\nULXMAP {WEST + 1}\n"
                        f"ULYMAP {NORTH - 1}\nXDIM {CELL}\nYDIM {CELL}\nNODATA 7\n")
                    # All three where they are stored in each way, one of them for the other types.
                    for band in (1, 2, 3) if kind == "f4" else (1 + turn % 3,):
                        want = bands[band - 1].astype("float64")
                        want[want == 7] = np.nan
                        seen, head = self.values(name, "--crs", "EPSG:32725", "--band", str(band))
                        np.testing.assert_array_equal(seen, want, f"{kind} {layout} {order} {band}")
                        self.assertEqual(float(head["xllcorner"]), WEST)

    def test_flat_binary_written(self):
        for kind in ["int16", "float32"]:
            source, truth = self.source(kind)
            for ext in ["bil", "bip", "bsq"] + (["flt"] if kind == "float32" else []):
                out, report = self.convert(source, f"{kind}_{ext}.{ext}")
                seen = np.fromfile(out, "<" + {"int16": "i2", "float32": "f4"}[kind]).reshape(ROWS, COLS)
                hole = report["void_value"]
                np.testing.assert_array_equal(np.where(seen == hole, np.nan, seen.astype("float64")),
                                              truth.astype("float32"))
                self.expect_back(out, truth.astype("float32"))

    def test_xyz(self):
        source, truth = self.source()
        out, _ = self.convert(source, "p.xyz")
        x, y, z = np.loadtxt(out, skiprows=1).T
        self.assertEqual(len(z), np.isfinite(truth).sum())
        col, row = ((x - WEST) / CELL - 0.5).round().astype(int), ((NORTH - y) / CELL - 0.5).round().astype(int)
        np.testing.assert_array_equal(z.astype("float32"), truth.astype("float32")[row, col])
        np.testing.assert_allclose(x, WEST + (col + 0.5) * CELL, atol=1e-6 * CELL)
        # Some cells of the border are voids, and the border is all that could tell the frame.
        self.expect_back(out, truth.astype("float32"))

    def test_xyz_in_any_order_delimiter_and_columns(self):
        z, hole = surface()
        rows, cols = np.nonzero(~hole)
        order = np.random.default_rng(3).permutation(len(rows))
        points = [(WEST + (c + 0.5) * CELL, NORTH - (r + 0.5) * CELL, z[r, c]) for r, c in zip(rows[order], cols[order])]
        truth = np.where(hole, np.nan, np.round(z.astype("float64"), 2))
        files = {
            "comma": ("# a comment\nid,north,east,z\n", lambda i, p: f"{i},{p[1]},{p[0]},{p[2]:.2f}", ()),
            "semicolon": ("", lambda i, p: f"{p[0]:.1f};{p[1]:.1f};{p[2]:.2f}".replace(".", ","), ()),
            "tab": ("", lambda i, p: f"{i}\t{p[0]}\t{p[1]}\t{p[2]:.2f}", ("--columns", "2,3,4")),
            "blanks": ("x y depth\n", lambda i, p: f" {p[0]}   {p[1]} {-p[2]:.2f}", ()),
            "switch": ("", lambda i, p: f"{p[0]} {p[1]} {-p[2]:.2f}", ("--depths",)),
        }
        for name, (head, line, options) in files.items():
            path = self.path(name + ".xyz")
            open(path, "w").write(head + "\n".join(line(i, p) for i, p in enumerate(points)) + "\n")
            seen, _ = self.values(path, "--crs", "EPSG:32725", *options)
            np.testing.assert_allclose(seen, truth, atol=2e-5, err_msg=name)

    def test_soundings_are_no_grid_and_said_so(self):
        rng = np.random.default_rng(1)
        path = self.path("s.txt")
        np.savetxt(path, np.c_[rng.uniform(0, 100, 500), rng.uniform(0, 100, 500), rng.uniform(-9, 0, 500)], fmt="%.3f")
        said = self.refused("clip", path, "-o", self.path("x.tif"), status=3)
        self.assertIn("soundings", said)

    # --------------------------------------------------------------------------------------------------- containers

    def test_netcdf_written(self):
        for ext, kind in [("nc", "int16"), ("nc", "float32"), ("cdf", "int16"), ("cdf", "float32")]:
            source, truth = self.source(kind)
            out, report = self.convert(source, f"{kind}.{ext}")
            with netCDF4.Dataset(out) as f:
                self.assertEqual(f.Conventions, "CF-1.8")
                v = f.variables["height"]
                self.assertEqual(v.dtype, np.dtype(kind))
                np.testing.assert_array_equal(v[:].astype("float64").filled(np.nan), truth.astype("float32"))
                np.testing.assert_allclose(f.variables["x"][:], WEST + (np.arange(COLS) + 0.5) * CELL, atol=1e-6)
                np.testing.assert_allclose(f.variables["y"][:], NORTH - (np.arange(ROWS) + 0.5) * CELL, atol=1e-6)
                mapping = f.variables[v.grid_mapping]
                self.assertEqual(mapping.grid_mapping_name, "transverse_mercator")
                self.assertEqual(mapping.longitude_of_central_meridian, -33)
                self.assertEqual(mapping.false_northing, 10000000)
                self.assertEqual(v.units, "m")
            self.expect_back(out, truth.astype("float32"))

    def test_netcdf_in_every_orientation(self):
        z, hole = surface()
        lon, lat = 329 + (np.arange(COLS) + 0.5) / 100, -37 - (np.arange(ROWS) + 0.5) / 100
        truth = np.where(hole, np.nan, np.round(z.astype("float64") / 0.5) * 0.5)
        for form in ["NETCDF3_CLASSIC", "NETCDF3_64BIT_OFFSET", "NETCDF4"]:
            for flip_y in (False, True):
                for flip_x in (False, True):
                    for x_first in (False, True):
                        path = self.path("o.nc")
                        with netCDF4.Dataset(path, "w", format=form) as f:
                            f.createDimension("lat", ROWS)
                            f.createDimension("lon", COLS)
                            f.createDimension("time", 2)
                            for name, values, unit, flip in [("lat", lat, "degrees_north", flip_y),
                                                             ("lon", lon, "degrees_east", flip_x)]:
                                c = f.createVariable(name, "f8", (name,))
                                c.units = unit
                                c[:] = values[::-1] if flip else values
                            f.createVariable("flags", "i1", ("lat", "lon"))
                            dims = ("time", "lon", "lat") if x_first else ("time", "lat", "lon")
                            v = f.createVariable("dem", "i2", dims, fill_value=-999)
                            v.scale_factor, v.add_offset, v.standard_name, v.units = 0.5, 100.0, "surface_altitude", "m"
                            data = np.ma.masked_array(z, hole)
                            data = data[::-1] if flip_y else data
                            data = data[:, ::-1] if flip_x else data
                            v[0] = data.T if x_first else data
                        seen, head = self.values(path)
                        np.testing.assert_allclose(seen, truth, atol=1e-5, err_msg=f"{form} {flip_y} {flip_x} {x_first}")
                        self.assertAlmostEqual(float(head["xllcorner"]), -31, 9)

    def metadata_of_bag(self, cols, rows, cell):
        utm = ('PROJCS["WGS 84 / UTM zone 25S",GEOGCS["WGS 84",DATUM["WGS_1984",SPHEROID["WGS 84",6378137,298.257223563]],'
               'PRIMEM["Greenwich",0],UNIT["degree",0.0174532925199433]],PROJECTION["Transverse_Mercator"],'
               'PARAMETER["latitude_of_origin",0],PARAMETER["central_meridian",-33],PARAMETER["scale_factor",0.9996],'
               'PARAMETER["false_easting",500000],PARAMETER["false_northing",10000000],UNIT["metre",1]]')
        vertical = 'VERT_CS["MLLW depth",VERT_DATUM["Mean Lower Low Water",2005],UNIT["metre",1],AXIS["Depth",DOWN]]'
        first, last = (WEST + cell / 2, NORTH - rows * cell + cell / 2), (WEST + cols * cell - cell / 2, NORTH - cell / 2)
        system = "<gmd:referenceSystemInfo><a><gmd:code><gco:CharacterString>{}</gco:CharacterString></gmd:code></a></gmd:referenceSystemInfo>"
        escape = lambda s: s.replace("&", "&amp;").replace('"', "&quot;")
        return ('<?xml version="1.0"?><gmi:MI_Metadata xmlns:gmd="g" xmlns:gco="c" xmlns:gmi="i" xmlns:gml="l">'
               "<gmd:dateStamp><gco:Date>2019-07-11</gco:Date></gmd:dateStamp>"
               f"<gmd:resolution><gco:Measure uom='m'>{cell}</gco:Measure></gmd:resolution>"
               "<gmd:cornerPoints><gml:Point><gml:coordinates decimal='.' cs=',' ts=' '>"
               f"{first[0]},{first[1]} {last[0]},{last[1]}</gml:coordinates></gml:Point></gmd:cornerPoints>"
               + system.format(escape(utm)) + system.format(escape(vertical)) + "</gmi:MI_Metadata>")

    def bag(self, name, **options):
        z, hole = surface()
        z = -z
        path = self.path(name)
        xml = self.metadata_of_bag(COLS, ROWS, CELL)
        with h5py.File(path, "w") as f:
            g = f.create_group("BAG_root")
            g.attrs["Bag Version"] = "1.5.3"
            full = np.where(hole, 1e6, z).astype("f4")[::-1]
            g.create_dataset("elevation", data=full, **options)
            g.create_dataset("uncertainty", data=np.where(full == 1e6, 1e6, 0.25 + full * 0).astype("f4"), **options)
            g.create_dataset("metadata", data=np.frombuffer(xml.encode(), "S1"))
        return path, np.where(hole, np.nan, z.astype("float64"))

    def test_bag(self):
        for options in [{}, dict(chunks=(8, 8), compression="gzip")]:
            path, truth = self.bag("b.bag", **options)
            look = self.expect_back(path, truth, heights="MLLW height")
            self.assertEqual(look["format"], "BAG")
            self.assertEqual(look["date"], "2019-07-11")
            self.assertEqual(look["bands"], ["elevation", "uncertainty"])
            seen, _ = self.values(path, "--band", "uncertainty")
            np.testing.assert_array_equal(seen, np.where(np.isnan(truth), np.nan, 0.25))
            compared = self.run_json("compare", path, path, "--no-shift")
            self.assertAlmostEqual(compared["detection"]["level"], 1.96 * 0.25 * 2**0.5, places=6)
            self.assertIn("its own uncertainties", " ".join(compared["notes"]))
            os.remove(path)

    def sea(self, name="sea.tif", heights="MLLW"):
        """A sea floor with holes, and how sure it is, as a GeoTIFF of ours."""
        source, truth = self.source("float32")
        deep = self.path("deep-" + name)
        self.run_tool("correct", source, "--factor", "-0.1", "--offset", "-3m", "--shift", "0m", "--heights", heights, "-o", self.path("raw.tif"), "--overwrite")
        self.run_tool("clip", self.path("raw.tif"), "--uncertainty", "0.1m+0.02*depth", "-o", deep, "--overwrite")
        values = np.where(np.isnan(truth), np.nan, (-0.1 * truth - 3).astype("float32"))
        return deep, values, np.hypot(0.1, 0.02 * np.maximum(0, -values))

    def refined_bag(self, name, spoil=None):
        """Three by two cells of 8 m: nodes every 2 m, every 4 m, every 1 m, and none."""
        path = self.path(name)
        truth = lambda x, y: -20 + 0.05 * (x - WEST) - 0.03 * (y - NORTH)
        xml = self.metadata_of_bag(3, 2, 8.0)
        steps = [[2.0, 4.0, 1.0], [None, 2.0, 4.0]]  # from the south
        nodes, table = [], np.zeros((2, 3), [("index", "u4"), ("dimensions_x", "u4"), ("dimensions_y", "u4"), ("resolution_x", "f4"), ("resolution_y", "f4"), ("sw_corner_x", "f4"), ("sw_corner_y", "f4")])
        for j in range(2):
            for i in range(3):
                step = steps[j][i]
                if step is None:
                    table[j, i]["index"] = 0xFFFFFFFF
                    continue
                n = int(8 / step)
                table[j, i] = (len(nodes), n, n, step, step, step / 2, step / 2)
                for y in range(n):
                    for x in range(n):
                        at = (WEST + 8 * i + (x + 0.5) * step, NORTH - 16 + 8 * j + (y + 0.5) * step)
                        nodes.append((truth(*at), 0.1 * step))
        if spoil:
            spoil(table)
        with h5py.File(path, "w") as f:
            g = f.create_group("BAG_root")
            g.attrs["Bag Version"] = "2.0.1"
            g.create_dataset("elevation", data=np.full((2, 3), -20, "f4"))
            g.create_dataset("uncertainty", data=np.full((2, 3), 0.5, "f4"))
            g.create_dataset("metadata", data=np.frombuffer(xml.encode(), "S1"))
            g.create_dataset("varres_metadata", data=table)
            g.create_dataset("varres_refinements", data=np.array(nodes, [("depth", "f4"), ("depth_uncrt", "f4")])[None, :])
        return path, truth

    def test_bag_of_variable_resolution(self):
        path, truth = self.refined_bag("v.bag")
        look = self.run_json("look", path)[0]
        self.assertEqual((look["cols"], look["rows"], look["cell"], look["bands"]), (24, 16, [1, 1], ["elevation", "uncertainty", "overview"]))
        self.assertIn("every 1 to 4", " ".join(look["notes"]))
        seen, sure = self.values(path)[0], self.values(path, "--band", "uncertainty")[0]
        steps = np.repeat(np.repeat(np.array([[np.nan, 2, 4], [2, 4, 1]]), 8, 0), 8, 1)  # from the north
        ys, xs = np.mgrid[0:16, 0:24]
        exact = truth(WEST + xs + 0.5, NORTH - ys - 0.5)
        self.assertTrue((np.isnan(seen) == np.isnan(steps)).all())
        np.testing.assert_allclose(seen[steps == 1], exact[steps == 1], atol=1e-4)
        # A plane is kept between nodes, and held level over the half step beyond the last.
        inner = np.zeros_like(steps, bool)
        for j in (0, 8):
            for i in (0, 8, 16):
                inner[j + 2 : j + 6, i + 2 : i + 6] = True
        np.testing.assert_allclose(seen[inner & ~np.isnan(steps)], exact[inner & ~np.isnan(steps)], atol=1e-4)
        self.assertLess(np.nanmax(np.abs(seen - exact)), 0.05 * 2 + 0.03 * 2)
        np.testing.assert_allclose(sure, 0.1 * steps, rtol=1 / 200)
        self.assertEqual(self.run_json("look", path, "--band", "overview")[0]["cols"], 3)
        self.run_tool("reproject", path, "--cell", "4m", "-o", "coarse.tif")
        for spoil, say in ((lambda t: t["index"].__setitem__((0, 0), 10**6), "points outside the file"), (lambda t: t["dimensions_x"].__setitem__((0, 1), 2**31), "points outside the file"), (lambda t: t["resolution_x"].__setitem__((1, 2), -1), "nodes every -1"), (lambda t: t["resolution_y"].__setitem__((0, 2), np.nan), "nodes every")):
            bad = self.refined_bag("bad.bag", spoil)[0]
            self.assertIn(say, self.refused("look", bad, status=3))

    def test_bag_written(self):
        deep, values, sure = self.sea()
        for out in ("w.bag",):
            self.run_tool("clip", deep, "-o", out)
            with h5py.File(self.path(out)) as f:
                g = f["BAG_root"]
                self.assertEqual(set(g), {"elevation", "uncertainty", "metadata", "tracking_list"})
                version = g.attrs["Bag Version"]
                self.assertEqual(version.decode() if isinstance(version, bytes) else version, "1.6.2")
                z, u = g["elevation"][:][::-1], g["uncertainty"][:][::-1]
                np.testing.assert_allclose(np.where(z == 1e6, np.nan, z), values, atol=1e-5)
                np.testing.assert_allclose(np.where(u == 1e6, np.nan, u), sure, rtol=1 / 200)
                self.assertAlmostEqual(float(g["elevation"].attrs["Minimum Elevation Value"]), float(np.nanmin(values)), places=4)
                self.assertAlmostEqual(float(g["uncertainty"].attrs["Maximum Uncertainty Value"]), float(np.nanmax(sure)), delta=0.01)
                self.assertEqual((g["tracking_list"].shape, int(g["tracking_list"].attrs["Tracking List Length"])), ((0,), 0))
                xml = b"".join(g["metadata"][:]).decode()
            from lxml import etree

            root = etree.fromstring(xml.encode())
            texts = [t for t in root.itertext() if t.strip()]
            corners = next(t for t in texts if len(t.split()) == 2 and "," in t)
            first, last = ([float(v) for v in p.split(",")] for p in corners.split())
            np.testing.assert_allclose(first, (WEST + CELL / 2, NORTH - (ROWS - 0.5) * CELL))
            np.testing.assert_allclose(last, (WEST + (COLS - 0.5) * CELL, NORTH - CELL / 2))
            self.assertTrue(any(t.startswith("PROJCS") and "UTM zone 25S" in t for t in texts))
        # Read back it is the same, and says the same.
        look = self.run_json("look", "w.bag")[0]
        self.assertEqual((look["heights"], look["crs"]), (self.run_json("look", deep)[0]["heights"], "EPSG:32725"))
        self.run_tool("clip", "w.bag", "-o", "again.tif")
        np.testing.assert_array_equal(self.values("again.tif")[0], self.values(deep)[0])
        np.testing.assert_array_equal(self.values("again.tif", "--band", "uncertainty")[0], self.values(deep, "--band", "uncertainty")[0])
        self.assertIn("--unit m", self.refused("clip", deep, "--unit", "ft", "-o", "ft.bag", status=3))
        self.run_tool("slope", deep, "-o", "slope.tif")
        self.assertIn("heights in metres", self.refused("clip", "slope.tif", "-o", "slope.bag", status=3))
        self.assertIn("exists", self.refused("clip", deep, "-o", "w.bag", status=4))
        self.assertEqual([f for f in os.listdir(self.path(".")) if ".part" in f], [])

    def test_s102(self):
        deep, values, sure = self.sea()
        self.run_tool("clip", deep, "-o", "w.h5")
        with h5py.File(self.path("w.h5")) as f:
            self.assertEqual(int(f.attrs["horizontalCRS"]), 32725)
            self.assertEqual((int(f.attrs["verticalDatum"]), int(f.attrs["verticalDatumReference"]), int(f.attrs["verticalCS"])), (12, 1, 6498))
            self.assertEqual(f["Group_F/featureCode"][0], b"BathymetryCoverage")
            fields = f["Group_F/BathymetryCoverage"][:]
            self.assertEqual([r["code"] for r in fields], [b"depth", b"uncertainty"])
            self.assertEqual([r["fillValue"] for r in fields], [b"1000000"] * 2)
            it = f["BathymetryCoverage/BathymetryCoverage.01"]
            self.assertEqual((int(it.attrs["numPointsLongitudinal"]), int(it.attrs["numPointsLatitudinal"])), (COLS, ROWS))
            self.assertAlmostEqual(float(it.attrs["gridOriginLongitude"]), WEST + CELL / 2)
            self.assertAlmostEqual(float(it.attrs["gridOriginLatitude"]), NORTH - (ROWS - 0.5) * CELL)
            self.assertEqual(float(it.attrs["gridSpacingLatitudinal"]), CELL)
            z = it["Group_001/values"][:][::-1]
            np.testing.assert_allclose(np.where(z["depth"] == 1e6, np.nan, -z["depth"]), values, atol=1e-5)
            np.testing.assert_allclose(np.where(z["uncertainty"] == 1e6, np.nan, z["uncertainty"]), sure, rtol=1 / 200)
            self.assertAlmostEqual(float(it["Group_001"].attrs["maximumDepth"]), float(-np.nanmin(values)), places=4)
        look = self.run_json("look", "w.h5")[0]
        self.assertEqual((look["format"], look["bands"], look["crs"]), ("S-102", ["depth", "uncertainty"], "EPSG:32725"))
        self.assertEqual(look["heights"], self.run_json("look", deep)[0]["heights"])
        self.run_tool("clip", "w.h5", "-o", "again.tif")
        np.testing.assert_array_equal(self.values("again.tif")[0], self.values(deep)[0])
        # A reference that tides do not know is told by its code; a stranger's file is read by the same layout.
        geoid = self.sea("geoid.tif", "EGM2008")[0]
        self.run_tool("clip", geoid, "-o", "g.h5")
        with h5py.File(self.path("g.h5")) as f:
            self.assertEqual((int(f.attrs["verticalDatum"]), int(f.attrs["verticalDatumReference"])), (3855, 2))
        self.assertEqual(self.run_json("look", "g.h5")[0]["heights"], "EGM2008 height")
        for group, sure_too, chunks in (("Group_001", True, None), ("Group.001", False, (4, 5))):
            with h5py.File(self.path("s.h5"), "w") as f:
                f.attrs["horizontalDatumReference"], f.attrs["horizontalDatumValue"] = "EPSG", 32725
                kind = h5py.enum_dtype({"lowestAstronomicalTide": 23}, basetype="u1")
                f.attrs.create("verticalDatum", 23, dtype=kind)
                f.attrs["issueDate"] = "20190711"
                it = f.create_group("BathymetryCoverage/BathymetryCoverage.01")
                for key, v in (("gridOriginLongitude", WEST + 1), ("gridOriginLatitude", NORTH - 9), ("gridSpacingLongitudinal", 2.0), ("gridSpacingLatitudinal", 2.0)):
                    it.attrs[key] = v
                names = [("depth", "f4")] + [("uncertainty", "f4")] * sure_too
                values = np.zeros((5, 7), names)
                values["depth"] = np.arange(35).reshape(5, 7)
                values["depth"][0, 0] = 1e6
                if sure_too:
                    values["uncertainty"] = 0.3
                it.create_group(group).create_dataset("values", data=values, chunks=chunks)
            look = self.run_json("look", "s.h5")[0]
            self.assertEqual((look["format"], look["date"], look["cols"], look["rows"], look["uncertainty"]), ("S-102", "2019-07-11", 7, 5, sure_too))
            self.assertIn("LAT", look["heights"])
            seen = self.values("s.h5")[0]
            self.assertTrue(np.isnan(seen[4, 0]))
            np.testing.assert_array_equal(seen[0], -np.arange(28, 35))
        with h5py.File(self.path("s.h5"), "a") as f:
            del f["BathymetryCoverage/BathymetryCoverage.01"].attrs["gridSpacingLatitudinal"]
        self.assertIn("gridSpacingLatitudinal", self.refused("look", "s.h5", status=3))

    # ---------------------------------------------------------------------------------------- HGT and the height map

    def test_hgt_written(self):
        out = self.path("S38W032.hgt")
        done = self.run_json("reproject", os.path.join(DEMO, "orbit-2000", "S38W032.hgt.zip"), "-o", out)
        self.assertEqual(done["type"], "int16")
        with zipfile.ZipFile(os.path.join(DEMO, "orbit-2000", "S38W032.hgt.zip")) as z:
            original = z.read(z.namelist()[0])
        self.assertEqual(open(out, "rb").read(), original)
        os.mkdir(self.path("finer"))
        done = self.run_json("reproject", out, "--cell", '1"', "-o", self.path("finer/S38W032.hgt"))
        self.assertEqual((done["cols"], done["rows"]), (3601, 3601))

    def test_hgt_refuses_what_it_cannot_hold(self):
        source, _ = self.source()
        said = self.refused("clip", source, "-o", self.path("S38W032.hgt"), status=3)
        self.assertIn("reproject IN -o S38W032.hgt", said)
        said = self.refused("clip", source, "-o", self.path("island.hgt"), status=2)

    # ---------------------------------------------------------------------------------------------------------- DTED

    def dted(self, name, z, corner, steps, heights="E96", accuracy="0012", spoil=None):
        """As MIL-PRF-89020B lays it out: rows of z from the north, the corner in whole degrees, steps in seconds."""
        rows, cols = z.shape
        lon, lat = corner
        side = lambda v, n, plus, minus: f"{abs(v):0{n}d}0000{minus if v < 0 else plus}"
        at = side(lon, 3, "E", "W") + side(lat, 3, "N", "S")
        uhl = ("UHL1" + at + f"{round(steps[0] * 10):04d}{round(steps[1] * 10):04d}" + accuracy + "U  " + " " * 12 + f"{cols:04d}{rows:04d}0").ljust(80)
        dsi = list("DSIU".ljust(648))
        dsi[141:149] = f"{heights}WGS84"
        dsi[159:163] = "0107"
        acc = ("ACCNA  " + accuracy).ljust(2700)
        out = (uhl + "".join(dsi) + acc).encode()
        for c in range(cols):
            magnitude = np.abs(z[::-1, c]).astype(int) | np.where(z[::-1, c] < 0, 0x8000, 0)
            record = b"\xaa" + struct.pack(">BHHH", 0, c, c, 0) + magnitude.astype(">u2").tobytes()
            out += record + struct.pack(">I", sum(record))
        with open(self.path(name), "wb") as f:
            f.write(spoil(out) if spoil else out)
        return self.path(name)

    def undone(self, path):
        """What a DTED file holds: its corner, its numbers of meridians and parallels, heights from the north."""
        raw = open(path, "rb").read()
        cols, rows = int(raw[47:51]), int(raw[51:55])
        z = np.empty((rows, cols))
        size = 12 + 2 * rows
        for c in range(cols):
            record = raw[3428 + c * size : 3428 + (c + 1) * size]
            self.assertEqual(record[0], 0xAA)
            self.assertEqual(struct.unpack(">I", record[-4:])[0], sum(record[:-4]))
            self.assertEqual(struct.unpack(">HH", record[2:6]), (c, c) if cols < 65536 else None)
            v = np.frombuffer(record[8:-4], ">u2").astype(int)
            z[:, c] = np.where(v & 0x8000, -(v & 0x7FFF), v)[::-1]
        self.assertEqual(len(raw), 3428 + cols * size)
        return raw[:3428].decode("ascii"), np.where(z == -32767, np.nan, z)

    def test_dted(self):
        rng = np.random.default_rng(5)
        for name, corner, cols, rows, steps in (("a.dt0", (-32, -38), 121, 121, (30, 30)), ("b.dt1", (10, 60), 601, 1201, (6, 3)), ("c.dt0", (-180, 80), 21, 121, (180, 30))):
            z = rng.integers(-400, 3000, (rows, cols))
            z[3, 4] = -32767
            path = self.dted(name, z, corner, steps)
            look = self.run_json("look", path)[0]
            self.assertEqual((look["format"], look["cols"], look["rows"], look["heights"], look["date"]), ("DTED", cols, rows, "EGM96 height", "2001-07-01"))
            self.assertAlmostEqual(look["bounds"][0], corner[0] - steps[0] / 7200, places=9)
            self.assertAlmostEqual(look["bounds"][1], corner[1] - steps[1] / 7200, places=9)
            self.assertAlmostEqual(look["uncertainties"]["median"], 12 / 1.6449, places=4)
            self.run_tool("clip", path, "--no-uncertainty", "-o", self.path(name + ".tif"))
            seen, _ = self.read_raster(self.path(name + ".tif"))
            np.testing.assert_array_equal(seen, np.where(z == -32767, np.nan, z))
            # Written again it holds the same, by the layout and not by our reader.
            os.makedirs(self.path("again"), exist_ok=True)
            again = os.path.join(self.path("again"), name)
            self.run_tool("clip", path, "-o", again)
            head, values = self.undone(again)
            np.testing.assert_array_equal(values, np.where(z == -32767, np.nan, z))
            original = open(path, "rb").read()
            self.assertEqual(head[:28], original[:28].decode())
            self.assertEqual(head[47:55], original[47:55].decode())
            self.assertEqual((head[80:84], head[80 + 141 : 80 + 149], head[728:731]), ("DSIU", "E96WGS84", "ACC"))
            self.assertEqual(head[139:144], "DTED" + name[-1])
        # Corners of the cell in the second record: south-west, north-west, north-east, south-east.
        self.assertEqual(head[80 + 204 : 80 + 264], "800000N1800000W" + "810000N1800000W" + "810000N1790000W" + "800000N1790000W")
        moved = self.run_json("reproject", os.path.join(DEMO, "orbit-2000", "S38W032.hgt.zip"), "-o", self.path("m.dt1"))
        self.assertEqual((moved["cols"], moved["rows"], moved["type"]), (1201, 1201, "int16"))
        self.assertIn("reproject IN -o x.dt2", self.refused("clip", self.path("a.dt0"), "-o", self.path("x.dt2"), status=3))
        self.assertIn("--heights EGM96", self.refused("clip", self.path("a.dt0"), "--unit", "ft", "-o", self.path("y.dt0"), status=3))

    def test_damaged_dted(self):
        z = np.zeros((121, 121), int)
        put = lambda at, text: lambda raw: raw[:at] + text + raw[at + len(text) :]
        for spoil, say in ((lambda r: r[:9000], "bytes"), (put(47, b"9999"), "take"), (put(47, b"0000"), "claims"), (put(20, b"NA  "), "interval"), (put(4, b"0310000Q"), "places it"), (put(4, b"9990000E"), "places it"), (put(80 + 648, b"XYZ"), "ACC"), (put(20, b"0000"), "claims"), (put(47, b"-121"), "-121")):
            path = self.dted("bad.dt0", z, (1, 2), (30, 30), spoil=spoil)
            self.assertIn(say, self.refused("look", path, status=3), say)
        path = self.dted("sum.dt0", z, (1, 2), (30, 30), spoil=put(5000, b"\x7f"))
        self.assertIn("checksum", self.refused("clip", path, "-o", self.path("z.tif"), status=3))
        self.assertFalse(os.path.exists(self.path("z.tif")))

    def test_height_map(self):
        source, truth = self.source()
        out, _ = self.convert(source, "m.png")
        scale = json.load(open(out + ".json"))
        seen = self.samples_of_png(out, 16) @ [256.0, 1.0]
        heights = np.where(seen == scale["void"], np.nan, scale["zero"] + seen * scale["step"])
        np.testing.assert_allclose(heights, truth, atol=scale["step"] / 2 * 1.001)
        self.assertLessEqual(scale["step"], np.nanmax(truth) - np.nanmin(truth))
        self.assertEqual((scale["crs"], scale["unit"], scale["origin"], scale["cell"]),
                         ("EPSG:32725", "m", [WEST, NORTH], [CELL, CELL]))

    def test_a_shade_is_the_picture_it_is(self):
        source, _ = self.source()
        self.run_tool("hillshade", source, "-o", "h.tif")
        said = self.run_tool("hillshade", source, "-o", "h.png").stdout
        self.assertIn("h.pgw", said)
        seen = self.samples_of_png(self.path("h.png"), 8, 6)
        shade, _ = self.read_raster(self.path("h.tif"))
        for colour in range(3):
            np.testing.assert_array_equal(seen[..., colour], np.nan_to_num(shade, nan=0))
        np.testing.assert_array_equal(seen[..., 3] == 255, ~np.isnan(shade))
        self.assertGreater(seen[..., 0].max(), 150, "as bright as light is")

    def samples_of_png(self, path, bits, colours=0):
        with open(path, "rb") as f:
            raw = f.read()
        self.assertEqual(struct.unpack(">IIBB", raw[16:26]), (COLS, ROWS, bits, colours))
        return png(raw)

    # ------------------------------------------------------------------------------------------------------- GeoTIFF

    def test_geotiff_by_another_reader(self):
        for kind, options in [("int16", ()), ("float32", ()), ("float32", ("--codec", "none")),
                              ("float32", ("--codec", "deflate")), ("float32", ("--predictor", "difference")),
                              ("float32", ("--predictor", "float", "--codec", "zstd"))]:
            source, truth = self.source(kind)
            out, report = self.convert(source, "t.tif", "--overwrite", *options)
            seen, _ = self.read_raster(out)
            np.testing.assert_array_equal(seen, truth.astype("float32"))
            self.assertEqual(report["type"], kind)
            with tifffile.TiffFile(out) as f:
                page = f.pages[0]
                self.assertEqual(page.dtype, np.dtype(kind))
                np.testing.assert_allclose(page.tags[33922].value[3:5], (WEST, NORTH), atol=1e-6)
                self.assertEqual(page.tags[33550].value[:2], (CELL, CELL))
                self.assertEqual(page.geotiff_tags["ProjectedCSTypeGeoKey"], 32725)

    def test_scale_offset_mask_and_world_file(self):
        z, hole = surface("int16", voids=True)
        name = self.path("s.tif")
        items = '<Metadata><Item name="O" sample="0" role="offset">-5</Item><Item name="S" sample="0" role="scale">0.1</Item></Metadata>'
        with tifffile.TiffWriter(name) as f:
            f.write(np.where(hole, 0, z), photometric="minisblack", extratags=[(42112, "s", 0, items)])
            f.write(~hole, photometric=4, subfiletype=4, bitspersample=1)
        open(self.path("s.tfw"), "w").write(f"{CELL}\n0\n0\n{-CELL}\n{WEST + 1}\n{NORTH - 1}\n")
        open(self.path("s.prj"), "w").write("Projection    UTM\nZone          -25\nDatum         WGS84\nUnits METERS\n")
        seen, head = self.values(name)
        np.testing.assert_allclose(seen, np.where(hole, np.nan, z * 0.1 - 5), atol=1e-5)
        self.assertEqual(float(head["xllcorner"]), WEST)
        look = self.run_json("look", name)[0]
        self.expect_place(look)
        self.assertIn("a mask", look["layout"])

    def test_every_kind_of_void_is_known(self):
        z, hole = surface()
        for kind, value, declared in [("float32", -3.4028234663852886e38, "-3.40282e+38"), ("float32", 3.4e38, None),
                                      ("float32", np.nan, None), ("float64", -1.7976931348623157e308, "-1.79769e+308"),
                                      ("float32", -9999, "-9999"), ("int16", -32768, "-32768"),
                                      ("float32", -32767, "-32767.0"), ("uint16", 65535, "65535"), ("uint8", 0, "0")]:
            data = np.where(hole, np.array(value, kind), (z + 1).astype(kind))
            tags = [(33550, "d", 3, (CELL, CELL, 0.0)), (33922, "d", 6, (0.0, 0.0, 0.0, WEST, NORTH, 0.0))]
            if declared:
                tags.append((42113, "s", 0, declared))
            name = self.path("v.tif")
            tifffile.imwrite(name, data, extratags=tags)
            seen, _ = self.values(name)
            np.testing.assert_array_equal(np.isnan(seen), hole, f"{kind} {value}")

    def test_an_undeclared_void_is_reported_and_can_be_told(self):
        for void in (-9999, -32768):
            z, hole = surface("int16")
            name = self.path("u.tif")
            tifffile.imwrite(name, np.where(hole, np.int16(void), z),
                             extratags=[(33550, "d", 3, (CELL, CELL, 0.0)),
                                        (33922, "d", 6, (0.0, 0.0, 0.0, WEST, NORTH, 0.0))])
            found = " ".join(self.run_json("look", name)[0]["suspicious"])
            self.assertIn(str(void), found)
            seen, _ = self.values(name, "--from-void", str(void))
            np.testing.assert_array_equal(np.isnan(seen), hole)

    # ------------------------------------------------------------------------------------------------------ archives

    def test_archives_of_every_kind(self):
        source, truth = self.source()
        asc, _ = self.convert(source, "tile.asc")
        inner = self.path("inner.zip")
        members = ["tile.asc", "tile.prj", "tile.asc.json"]
        with zipfile.ZipFile(inner, "w", zipfile.ZIP_DEFLATED) as z:
            for m in members:
                z.write(self.path(m), "deep/" + m)
        made = [inner]
        with zipfile.ZipFile(self.path("stored.zip"), "w", zipfile.ZIP_STORED) as z:
            z.write(source, "t.tif")
        with zipfile.ZipFile(self.path("outer.zip"), "w") as z:
            z.write(inner, "north/inner.zip")
            z.writestr("readme.txt", "hello")
        for mode in ["gz", "bz2", "xz", ""]:
            with tarfile.open(self.path("t.tar." + mode), "w:" + mode) as t:
                for m in members:
                    t.add(self.path(m), m)
        subprocess.run(["gzip", "-k", source], check=True)
        made += [self.path(n) for n in ["stored.zip", "outer.zip", "t.tar.gz", "t.tar.bz2", "t.tar.xz", "t.tar.",
                                        os.path.basename(source) + ".gz"]]
        for path in made:
            look = self.expect_back(path, truth.astype("float32"))
        self.expect_back(self.path("outer.zip/north/inner.zip/deep/tile.asc"), truth.astype("float32"))

    def test_several_grids_in_an_archive(self):
        source, truth = self.source()
        with zipfile.ZipFile(self.path("two.zip"), "w") as z:
            z.write(source, "a.tif")
            z.write(source, "b.tif")
        said = self.refused("clip", self.path("two.zip"), "-o", self.path("x.tif"), status=3)
        self.assertIn("two.zip/a.tif", said)
        self.expect_back(self.path("two.zip/b.tif"), truth.astype("float32"))
        self.assertTrue(os.path.exists(self.path("seen.flt")))
        self.assertEqual(len(self.run_json("look", self.path("two.zip"))), 2)
        found = self.run_json("find", "--in", self.folder, "--area", "like:" + source)
        self.assertEqual(sorted(os.path.relpath(t["path"], self.folder) for t in found["tiles"]),
                         ["seen.flt", "source_float32.tif", "two.zip/a.tif", "two.zip/b.tif"])

    def test_names_that_lead_out_of_an_archive_lead_nowhere(self):
        source, truth = self.source()
        with zipfile.ZipFile(self.path("evil.zip"), "w") as z:
            z.write(source, "../../evil.tif")
        before = sorted(os.listdir(self.folder))
        self.expect_back(self.path("evil.zip"), truth.astype("float32"))
        self.assertFalse(os.path.exists(os.path.join(os.path.dirname(self.folder), "evil.tif")))
        self.assertEqual([n for n in sorted(os.listdir(self.folder)) if not n.startswith("seen")], before)


def grey16(samples):
    """A PNG of 16-bit grey by the published layout: zlib alone."""
    rows, cols = samples.shape
    lines = b"".join(b"\0" + row.astype(">u2").tobytes() for row in samples)

    def chunk(kind, body):
        return struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))

    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", struct.pack(">IIBBBBB", cols, rows, 16, 0, 0, 0, 0)) + chunk(b"IDAT", zlib.compress(lines)) + chunk(b"IEND", b"")


class CoverageTest(FormatTest):
    """Gridded coverages of GeoPackage, made with sqlite3 by the tables of OGC 17-066."""

    TILE = 16

    def coverage(self, name, integers=True, scale=(0.01, 20.0), own=(1.0, 0.0), null=65535, leave=(), srs=32725, unit="m",
                 encoding="grid-value-is-center", tables=("dem",), contents=True, level_below=True):
        """A surface of ROWS x COLS cells in tiles, the last ones filled up with void; also a coarse level that must not be read."""
        z, hole = surface("float64")
        across, down = -(-COLS // self.TILE), -(-ROWS // self.TILE)
        path = self.path(name)
        db = sqlite3.connect(path)
        db.executescript("""
            PRAGMA application_id = 1196444487;
            CREATE TABLE gpkg_spatial_ref_sys (srs_name TEXT, srs_id INTEGER PRIMARY KEY, organization TEXT, organization_coordsys_id INTEGER, definition TEXT, description TEXT);
            CREATE TABLE gpkg_contents (table_name TEXT PRIMARY KEY, data_type TEXT, identifier TEXT, description TEXT, last_change TEXT, min_x REAL, min_y REAL, max_x REAL, max_y REAL, srs_id INTEGER);
            CREATE TABLE gpkg_tile_matrix_set (table_name TEXT PRIMARY KEY, srs_id INTEGER, min_x REAL, min_y REAL, max_x REAL, max_y REAL);
            CREATE TABLE gpkg_tile_matrix (table_name TEXT, zoom_level INTEGER, matrix_width INTEGER, matrix_height INTEGER, tile_width INTEGER, tile_height INTEGER, pixel_x_size REAL, pixel_y_size REAL);
            CREATE TABLE gpkg_2d_gridded_coverage_ancillary (id INTEGER PRIMARY KEY, tile_matrix_set_name TEXT, datatype TEXT, scale REAL, offset REAL, precision REAL, data_null REAL, grid_cell_encoding TEXT, uom TEXT, field_name TEXT, quantity_definition TEXT);
            CREATE TABLE gpkg_2d_gridded_tile_ancillary (id INTEGER PRIMARY KEY, tpudt_name TEXT, tpudt_id INTEGER, scale REAL, offset REAL, min REAL, max REAL, mean REAL, std_dev REAL);""")
        db.execute("INSERT INTO gpkg_spatial_ref_sys VALUES ('zone', ?, 'EPSG', ?, 'x', NULL)", (srs, srs))
        seen = np.full(z.shape, np.nan)
        for table in tables:
            quoted = '"' + table.replace('"', '""') + '"'
            east, south = WEST + across * self.TILE * CELL, NORTH - down * self.TILE * CELL
            box = (WEST, NORTH - ROWS * CELL, WEST + COLS * CELL, NORTH) if contents else (None,) * 4
            db.execute("INSERT INTO gpkg_contents VALUES (?, '2d-gridded-coverage', ?, '', '', ?, ?, ?, ?, ?)", (table, table, *box, srs))
            db.execute("INSERT INTO gpkg_tile_matrix_set VALUES (?, ?, ?, ?, ?, ?)", (table, srs, WEST, south, east, NORTH))
            for zoom in (2, 3) if level_below else (3,):
                db.execute("INSERT INTO gpkg_tile_matrix VALUES (?, ?, ?, ?, ?, ?, ?, ?)", (table, zoom, across, down, self.TILE, self.TILE, CELL, CELL))
            kind = "integer" if integers else "float"
            db.execute("INSERT INTO gpkg_2d_gridded_coverage_ancillary VALUES (NULL, ?, ?, ?, ?, 1, ?, ?, ?, 'Height', 'Height')",
                       (table, kind, *(scale if integers else (1, 0)), null, encoding, unit))
            db.execute(f'CREATE TABLE {quoted} (id INTEGER PRIMARY KEY, zoom_level INTEGER, tile_column INTEGER, tile_row INTEGER, tile_data BLOB)')
            if level_below:
                db.execute(f'INSERT INTO {quoted} VALUES (NULL, 2, 0, 0, ?)', (b"not looked at",))
            for r in range(down):
                for c in range(across):
                    if (c, r) in leave:
                        continue
                    where = np.s_[r * self.TILE:(r + 1) * self.TILE, c * self.TILE:(c + 1) * self.TILE]
                    part, gone = z[where], hole[where]
                    tile = np.full((self.TILE, self.TILE), float(null) if null is not None else np.nan)
                    if integers:
                        s, o = (own[0], own[1] + 3 * c) if own != (1.0, 0.0) else own
                        raw = np.round(((part - scale[1]) / scale[0] - o) / s)
                        tile[:part.shape[0], :part.shape[1]] = np.where(gone, null, raw)
                        blob = grey16(tile.astype("u2"))
                        seen[where] = np.where(gone, np.nan, (raw * s + o) * scale[0] + scale[1])
                    else:
                        tile[:part.shape[0], :part.shape[1]] = np.where(gone, np.nan if null is None else null, part)
                        s, o = 1, 0
                        blob = io.BytesIO()
                        tifffile.imwrite(blob, tile.astype("f4"))
                        blob = blob.getvalue()
                        seen[where] = np.where(gone, np.nan, part.astype("f4"))
                    row = db.execute(f'INSERT INTO {quoted} VALUES (NULL, 3, ?, ?, ?)', (c, r, blob)).lastrowid
                    db.execute("INSERT INTO gpkg_2d_gridded_tile_ancillary VALUES (NULL, ?, ?, ?, ?, 0, 0, 0, 0)", (table, row, s, o))
        db.commit()
        db.close()
        return path, seen

    def test_coverages_are_read(self):
        for case in (dict(), dict(own=(0.5, 40.0)), dict(integers=False, null=-9999), dict(integers=False, null=None),
                     dict(leave=((1, 0),)), dict(scale=(1.0, 0.0), level_below=False)):
            path, want = self.coverage("c.gpkg", **case)
            look = self.run_json("look", path)[0]
            self.assertEqual((look["format"], look["crs"], look["cols"], look["rows"], look["cell"]), ("GeoPackage coverage", "EPSG:32725", COLS, ROWS, [CELL, CELL]), case)
            seen, head = self.values(path)
            np.testing.assert_allclose(seen, want, atol=1e-4, err_msg=str(case))
            self.assertEqual((float(head["xllcorner"]), float(head["yllcorner"])), (WEST, NORTH - ROWS * CELL))
            os.unlink(path)

    def test_place_unit_and_choice(self):
        path, want = self.coverage("corner.gpkg", encoding="grid-value-is-corner", unit="[ft_i]", contents=False, tables=("dem", 'odd "name"'))
        look = self.run_json("look", path)[0]
        self.assertEqual((look["unit"], look["bands"]), ("ft", ["dem", 'odd "name"']))
        self.assertEqual(look["bounds"][0], WEST - CELL / 2)
        self.assertEqual(look["bounds"][3], NORTH - CELL / 2)
        self.assertEqual((look["cols"], look["rows"]), (48, 32))  # no contents box: whole tiles
        seen, _ = self.values(path, "--band", 'odd "name"')
        np.testing.assert_allclose(seen[:ROWS, :COLS], want, atol=1e-4)
        self.assertTrue(np.isnan(seen[ROWS:]).all())
        # In an archive by its name; a file of features beside it in the archive is no second grid.
        with zipfile.ZipFile(self.path("both.zip"), "w") as z:
            z.write(path, "corner.gpkg")
            z.write(self.source()[0], "dem.tif")
        packed, _ = self.values(self.path("both.zip") + "/corner.gpkg")
        np.testing.assert_allclose(packed[:ROWS, :COLS], want, atol=1e-4)
        self.run_tool("look", "both.zip")

    def test_bad_coverages_are_refused(self):
        for name, change, said in (
            ("tile", "UPDATE dem SET tile_data = x'89504e470d0a1a0a00' WHERE zoom_level = 3", "a tile of the coverage"),
            ("tiff", "UPDATE dem SET tile_data = x'49492a00' WHERE zoom_level = 3", "a tile of the coverage"),
            ("none", "DELETE FROM dem", "no tiles"),
            ("size", "UPDATE gpkg_tile_matrix SET tile_width = -4", "width of tiles"),
            ("huge", "UPDATE gpkg_tile_matrix SET tile_width = 99999999", "width of tiles"),
            ("cell", "UPDATE gpkg_tile_matrix SET pixel_x_size = 0", "width of a cell"),
            ("type", "UPDATE gpkg_2d_gridded_coverage_ancillary SET datatype = 'word'", "neither integer nor float"),
            ("scale", "UPDATE gpkg_2d_gridded_coverage_ancillary SET scale = 0", "scale"),
            ("lost", "DELETE FROM gpkg_tile_matrix_set", "where its coverage lies"),
            ("gone", "DELETE FROM gpkg_2d_gridded_coverage_ancillary", "no gridded coverage"),
            ("table", "DROP TABLE dem", "damaged"),
        ):
            path, _ = self.coverage(name + ".gpkg")
            with sqlite3.connect(path) as db:
                db.execute(change)
            db.close()
            self.assertIn(said, self.refused("clip", path, "-o", "no.tif", status=3), name)
        path, _ = self.coverage("short.gpkg")
        with open(path, "r+b") as f:
            f.truncate(os.path.getsize(path) // 2)
        self.refused("clip", path, "-o", "no.tif", status=3)


if __name__ == "__main__":
    main()

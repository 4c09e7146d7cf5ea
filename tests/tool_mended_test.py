"""Each of these went wrong once, in silence or for ever; each test tells its story."""
import h5py
import http.server
import json
import os
import resource
import shutil
import signal
import struct
import subprocess
import threading
import time
import unittest
import zipfile

import netCDF4
import numpy

from tool import DEMO, TOOL, ToolTest, main

SHEET = os.path.join(DEMO, "ground-2022", "sheet_b2.tif")


class Mended(ToolTest):
    def asc(self, name, values, cell=1.0, x=677000, y=5842000, prj="EPSG:32725", void=-9999):
        values = numpy.asarray(values, dtype=float)
        rows = [f"ncols {values.shape[1]}", f"nrows {values.shape[0]}", f"xllcorner {x}", f"yllcorner {y}", f"cellsize {cell}", f"NODATA_value {void}"]
        rows += [" ".join("%.10g" % (void if numpy.isnan(v) else v) for v in row) for row in values]
        with open(self.path(name), "w") as f:
            f.write("\n".join(rows) + "\n")
        if prj:
            with open(self.path(os.path.splitext(name)[0] + ".prj"), "w") as f:
                f.write(prj)
        return self.path(name)


class Silent(Mended):
    def test_feet_nobody_stated_are_said(self):
        """--unit ft relabelled metres as feet: levels 400 to 900 ft where 1100 to 3200 are true, without a note."""
        ys, xs = numpy.mgrid[0:40, 0:50]
        self.asc("nw.asc", 340 + 5.0 * xs + 10.0 * ys)
        found = self.run_json("contours", "nw.asc", "--interval", "100ft", "--unit", "ft", "-o", "c.geojson")
        self.assertEqual(found["levels"], [1200, 3100])
        said = "nw.asc: does not say in which unit its heights are: m was taken for granted"
        self.assertIn(said, found["notes"])
        for words in (["mosaic", "nw.asc", "-o", "m.tif"], ["clip", "nw.asc", "-o", "k.tif"], ["section", "nw.asc", "--from", "677001,5842001", "--to", "677040,5842030", "-o", "s.csv"], ["map", "nw.asc", "-o", "m.png"], ["statistics", "nw.asc"], ["reproject", "nw.asc", "-o", "r.tif"], ["fill", "nw.asc", "-o", "f.tif"]):
            found = self.run_json(*words, "--unit", "ft")
            self.assertIn(said, found["notes"], words)
        self.assertAlmostEqual(self.run_json("look", "m.tif")[0]["range"][0], 340 / 0.3048, places=2)
        self.assertEqual(self.run_json("look", "m.tif")[0]["unit"], "ft")
        # Input that is told to be in feet is.
        told = self.run_json("clip", "nw.asc", "--from-unit", "ft", "--unit", "m", "-o", "told.tif")
        self.assertAlmostEqual(told["range"][0], 340 * 0.3048, places=3)
        # Vertical references are assigned with a note, in every verb.
        for words in (["clip", "nw.asc", "-o", "h.tif"], ["contours", "nw.asc", "--interval", "50m", "-o", "h.gpkg"], ["statistics", "nw.asc"]):
            notes = self.run_json(*words, "--heights", "EGM96")["notes"]
            self.assertTrue(any("does not say from where heights are counted: EGM96 height was taken" in n for n in notes), words)

    def test_vertical_systems_of_depths_and_in_feet(self):
        """EPSG:5715 counts down: its values were taken for heights; 8051 is in feet and was shown in metres; the
        vertical part of --crs was dropped without a word."""
        self.asc("d.asc", [[1, 2, 3], [4, 5, 6]])
        found = self.run_json("look", "d.asc", "--heights", "EPSG:8051")[0]
        self.assertEqual((found["unit"], found["range"], found["heights"]), ("ft", [-6, -1], "MSL height (ft)"))
        up = self.run_json("clip", "d.asc", "--from-heights", "EPSG:5715", "--heights", "EPSG:5714", "-o", "up.tif")
        self.assertEqual(up["range"], [-6, -1])
        self.assertEqual(self.run_json("clip", "d.asc", "--crs", "EPSG:32725+5773", "-o", "v.tif")["heights"], "EGM96 height")
        self.assertEqual(self.run_json("look", "d.asc", "--crs", "EPSG:32725+5773")[0]["heights"], "EGM96 height")
        moved = self.run_json("reproject", "v.tif", "--crs", "EPSG:4326+5773", "-o", "g.tif")
        self.assertEqual(moved["heights"], "EGM96 height")
        self.assertIn("give one of them", self.refused("reproject", "v.tif", "--crs", "EPSG:4326+5773", "--heights", "EGM2008", "-o", "x.tif", status=2))

    def test_only_the_unit_was_asked_for(self):
        """reproject --unit ft resampled every cell by half a cell."""
        self.asc("odd.asc", [[1, 2, 3], [4, 5, 60]], cell=1.3, x=677000.4, y=5842000.7)
        self.run_tool("reproject", "odd.asc", "--unit", "ft", "-o", "ft.tif")
        numpy.testing.assert_allclose(self.read_raster(self.path("ft.tif"))[0], numpy.array([[1, 2, 3], [4, 5, 60]]) / 0.3048, rtol=1e-6)

    def test_what_the_tool_made_is_no_survey(self):
        """A mosaic written into the folder of its tiles replaced all of them in the next search."""
        for i, name in enumerate(("a.tif", "b.tif")):
            self.asc("t.asc", numpy.full((20, 20), i + 1.0), x=677000 + 20 * i)
            self.run_tool("clip", "t.asc", "-o", f"tiles/{name}" if os.makedirs(self.path("tiles"), exist_ok=True) is None else name)
        self.run_tool("mosaic", "tiles", "-o", "tiles/whole.tif")
        area = "box:677000,5842000,677040,5842020@EPSG:32725"
        found = self.run_json("find", "--in", "tiles", "--area", area)
        self.assertEqual(sorted(os.path.basename(t["path"]) for t in found["tiles"] if t["kept"]), ["a.tif", "b.tif"])
        self.assertIn("made here of 2 files", [t["reason"] for t in found["tiles"] if t["path"].endswith("whole.tif")][0])
        again = self.run_json("mosaic", "tiles", "-o", "again.tif")
        self.assertEqual(sorted(again["sources"]), ["a.tif", "b.tif"])
        # Corrected, a tile takes the place of the wrong one; it was called its duplicate.
        self.run_tool("correct", "tiles/a.tif", "--offset", "5m", "-o", "tiles/zfixed.tif")
        found = self.run_json("find", "--in", "tiles", "--area", area)
        self.assertEqual(sorted(os.path.basename(t["path"]) for t in found["tiles"] if t["kept"]), ["b.tif", "zfixed.tif"])
        self.assertEqual(sorted(self.run_json("mosaic", "tiles", "-o", "third.tif")["sources"]), ["a.tif", "b.tif"])
        self.assertEqual(self.run_json("look", "third.tif")[0]["range"], [2, 6])
        # The same bytes under another name are a duplicate; other bytes are not.
        shutil.copy(self.path("tiles/b.tif"), self.path("tiles/copy.tif"))
        reasons = {os.path.basename(t["path"]): t["reason"] for t in self.run_json("find", "--in", "tiles", "--area", area)["tiles"]}
        self.assertIn("same bytes", reasons["copy.tif"])

    def test_no_verb_replaces_its_input(self):
        """hillshade a.tif -o a.tif --overwrite replaced the surface; contours then drew lines of the shade."""
        self.asc("a.asc", numpy.arange(400.0).reshape(20, 20))
        self.run_tool("clip", "a.asc", "-o", "a.tif")
        before = open(self.path("a.tif"), "rb").read()
        os.symlink(self.path("a.tif"), self.path("link.tif"))
        os.makedirs(self.path("in"))
        shutil.copy(self.path("a.tif"), self.path("in/t.tif"))
        for words in (["hillshade", "a.tif", "-o", "a.tif"], ["hillshade", "link.tif", "-o", "a.tif"], ["clip", "a.tif", "--out=a.tif"], ["fill", "a.tif", "-o", "./a.tif"], ["reproject", "a.tif", "--onto", "a.tif", "-o", "a.tif"], ["mosaic", "in", "-o", "in/t.tif"], ["compare", "a.tif", "in/t.tif", "-o", "d.tif", "--corrected", "in/t.tif"]):
            self.assertIn("choose another name", self.refused(*words, "--overwrite", status=2))
        self.assertEqual(open(self.path("a.tif"), "rb").read(), before)
        self.run_tool("section", "a.tif", "--from", "677001,5842001", "--to", "677019,5842019", "-o", "s.csv")
        self.refused("section", "a.tif", "--line", "s.csv", "-o", "s.csv", "--overwrite", status=2)
        self.run_tool("hillshade", "a.tif", "-o", "shade.tif")
        self.assertIn("lines of equal height", self.refused("contours", "shade.tif", "--interval", "10m", "-o", "c.gpkg", status=3))
        self.assertIn("not heights", self.refused("hillshade", "shade.tif", "-o", "s2.tif", status=3))

    def test_coordinates_and_voids_of_netcdf(self):
        """Kilometres were read as metres; the format's own fill value and valid_range were heights; time steps had no number."""
        def write(name, unit, scale, mapping, fill=None):
            with netCDF4.Dataset(self.path(name), "w") as d:
                for dim, n in (("time", 3), ("y", 4), ("x", 5)):
                    d.createDimension(dim, n)
                for dim, n, step in (("y", 4, -1000.0), ("x", 5, 1000.0)):
                    v = d.createVariable(dim, "f8", (dim,))
                    v.units = unit
                    v.standard_name = f"projection_{dim}_coordinate"
                    v[:] = (500000 + step * numpy.arange(n)) / scale
                m = d.createVariable("m", "i4")
                for k, value in mapping.items():
                    setattr(m, k, value)
                z = d.createVariable("z", "f4", ("time", "y", "x"))
                z.grid_mapping = "m"
                z.units = "m"
                z.valid_range = numpy.array([-100, 500], dtype="f4")
                for t in range(3):
                    z[t, 1:, :] = 100 * t + numpy.arange(15).reshape(3, 5)
                z[0, 1, 1] = 9000
        lcc = {"grid_mapping_name": "lambert_conformal_conic", "standard_parallel": [30.0, 60.0], "longitude_of_central_meridian": 10.0, "latitude_of_projection_origin": 45.0}
        write("km.nc", "km", 1000.0, dict(lcc, false_easting=400.0))
        write("m.nc", "m", 1.0, dict(lcc, false_easting=400000.0))
        a, b = self.run_json("look", "km.nc", "m.nc")
        for one in (a, b):
            self.assertEqual((one["range"], one["voids"], one["cell"]), ([0, 14], 6, [1000, 1000]))
        numpy.testing.assert_allclose(a["bounds"], b["bounds"])
        for name, out in (("km.nc", "a.tif"), ("m.nc", "b.tif")):
            self.run_tool("reproject", name, "--crs", "EPSG:4326", "--cell", "0.01deg", "-o", out)
        self.assertEqual(self.run_json("look", "a.tif")[0]["bounds"], self.run_json("look", "b.tif")[0]["bounds"])
        self.assertEqual(self.run_json("look", "m.nc", "--band", "3")[0]["range"], [200, 214])
        self.assertEqual(self.run_json("look", "m.nc", "--band", "z:2")[0]["range"], [100, 114])
        self.assertIn("numbered from 1", self.refused("clip", "m.nc", "--band", "4", "-o", "x.tif", status=2))

    def test_hdf5_filters_are_named(self):
        """Layers that only another library can unpack were "NetCDF: HDF error"."""
        with h5py.File(self.path("lzf.nc"), "w") as d:
            for name, n in (("lat", 20), ("lon", 30)):
                d[name] = -37.5 - numpy.arange(n) / 100 if name == "lat" else -31 + numpy.arange(n) / 100
                d[name].make_scale(name)
                d[name].attrs["units"] = "degrees_north" if name == "lat" else "degrees_east"
            z = d.create_dataset("z", data=numpy.arange(600.0).reshape(20, 30), compression="lzf", chunks=(20, 30))
            z.dims[0].attach_scale(d["lat"])
            z.dims[1].attach_scale(d["lon"])
            z.attrs["units"] = "m"
        said = self.refused("look", "lzf.nc", status=3)
        self.assertIn("32000 (LZF)", said)
        self.assertIn("deflate", said)

    def test_padded_bands_in_a_row(self):
        """BANDROWBYTES was not read: the second band began inside the padding of the first."""
        a, b = numpy.arange(12, dtype="<f4").reshape(3, 4), 100 + numpy.arange(12, dtype="<f4").reshape(3, 4)
        with open(self.path("p.bil"), "wb") as f:
            for r in range(3):
                for band in (a, b):
                    f.write(band[r].tobytes() + b"\xff" * 8)
        head = "ncols 4\nnrows 3\nnbands 2\nnbits 32\npixeltype float\nbyteorder I\nlayout bil\nxdim 1\nydim 1\nulxmap 677000\nulymap 5842000\n"
        for lengths in ("bandrowbytes 24\ntotalrowbytes 48\n", "bandrowbytes 24\n"):
            with open(self.path("p.hdr"), "w") as f:
                f.write(head + lengths)
            for band, truth in ((1, a), (2, b)):
                self.run_tool("clip", "p.bil", "--band", band, "--crs", "EPSG:32725", "-o", "p.tif", "--overwrite")
                numpy.testing.assert_array_equal(self.read_raster(self.path("p.tif"))[0], truth)
        with open(self.path("p.hdr"), "w") as f:
            f.write(head + "bandrowbytes 12\n")
        self.assertIn("bandrowbytes", self.refused("clip", "p.bil", "--crs", "EPSG:32725", "-o", "q.tif", status=3))

    def test_input_rewritten_while_it_is_read(self):
        """The result was a bit of both, with success, 8 times of 8."""
        ys, xs = numpy.mgrid[0:3000, 0:3000]
        (numpy.sin(xs / 50.0) * 100 + ys % 17).astype("<f4").tofile(self.path("t.flt"))
        with open(self.path("t.hdr"), "w") as f:
            f.write("ncols 3000\nnrows 3000\nxllcorner 676000\nyllcorner 5840000\ncellsize 1\nNODATA_value -9999\nbyteorder LSBFIRST\n")
        self.run_tool("clip", "t.flt", "--crs", "EPSG:32725", "--codec", "none", "-o", "big.tif")
        size = os.path.getsize(self.path("big.tif"))
        for way in ("rewritten", "cut"):
            shutil.copy(self.path("big.tif"), self.path("in.tif"))
            running = subprocess.Popen([TOOL, "reproject", "in.tif", "--crs", "EPSG:4326", "--threads", "1", "--memory", "32M", "-o", f"{way}.tif"], cwd=self.folder, env=self.environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
            while not any(f".{way}.tif.part" in f for f in self.files()):
                time.sleep(0.001)
            with open(self.path("in.tif"), "r+b") as f:
                if way == "cut":
                    f.truncate(size // 3)
                else:
                    f.seek(size // 2)
                    f.write(b"\0" * (size // 4))
            out, said = running.communicate(timeout=120)
            self.assertEqual(running.returncode, 3, said)
            self.assertTrue("was changed while it was read" in said or "ends early" in said, said)
            self.assertFalse(any(f".{way}.tif.part" in f or f.endswith(f"/{way}.tif") for f in self.files()))


    def test_bytes_that_use_all_values(self):
        """An 8-bit grid with all 256 values could not be written, for one of them was to stand for voids."""
        import tifffile

        values = numpy.arange(256, dtype="u1").reshape(16, 16)
        tifffile.imwrite(self.path("b.tif"), values, extratags=[(33550, 12, 3, (1.0, 1.0, 0.0), True), (33922, 12, 6, (0, 0, 0, 677000.0, 5842000.0, 0), True)])
        for out in ("o.tif", "o.bil", "o.nc"):
            self.run_tool("clip", "b.tif", "--crs", "EPSG:32725", "-o", out)
            found = self.run_json("look", out)[0]
            self.assertEqual((found["range"], found["voids"], found["type"]), ([0, 255], 0, "int16"), out)

    def test_text_and_netcdf_cut_while_they_are_read(self):
        """Input cut short while it was read ended the process by a signal."""
        ys, xs = numpy.mgrid[0:1500, 0:1500]
        self.asc("t.asc", numpy.sin(xs / 50.0) * 100 + ys % 17)
        self.run_tool("clip", "t.asc", "-o", "n.nc")
        self.run_tool("clip", "t.asc", "-o", "c.cdf")
        for name in ("t.asc", "n.nc", "c.cdf"):
            for turn in range(3):
                shutil.copy(self.path(name), self.path("in-" + name))
                running = subprocess.Popen([TOOL, "reproject", "in-" + name, "--from-crs", "EPSG:32725", "--crs", "EPSG:4326", "--memory", "32M", "-o", "out.tif", "--overwrite"], cwd=self.folder, env=self.environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
                time.sleep(0.05 + 0.1 * turn)
                os.truncate(self.path("in-" + name), 5000)
                out, said = running.communicate(timeout=120)
                self.assertIn(running.returncode, (0, 3), f"{name} {turn}: {said}")
                if running.returncode == 3:
                    self.assertEqual(said.count("\n"), 1, said)


class Studies(Mended):
    def study(self, products, more=""):
        os.makedirs(self.path("tiles"), exist_ok=True)
        values = 50 + numpy.arange(900.0).reshape(30, 30) / 10
        values[3, 4] = 0
        self.asc("tiles/a.asc", values, void=-1)
        with open(self.path("s.toml"), "w") as f:
            f.write('title = "S"\n[area]\ncircle = "677015,5842015,12m@EPSG:32725"\n[[source]]\nfolder = "tiles"\n' + more + "".join(f"[[product]]\n{p}\n" for p in products))

    def test_a_plan_looks_at_products(self):
        """A negative interval, a missing line or shade.png failed after the surface was made, without record or report."""
        for product, said in (('kind = "contours"\nfile = "c.gpkg"\ninterval = "-1 m"', "interval"), ('kind = "section"\nfile = "s.png"\nline = "nowhere.geojson"', "nowhere.geojson"), ('kind = "hillshade"\nfile = "shade.png"', "shade.png"), ('kind = "contours"\nfile = "c.dwg"\ninterval = "1 m"', "c.dwg"), ('kind = "hillshade"\nfile = "s.tif"\naltitude = "95deg"', "light"), ('kind = "solid"\nfile = "s.stl"\nbed = "0mmx20mm"', "bed"), ('kind = "solid"\nfile = "s.stl"', "a size"), ('kind = "section"\nfile = "s.pdf"\nacross = "nowhere.geojson"\nevery = "5m"\nwidth = "5m"', "nowhere.geojson"), ('kind = "map"\nfile = "m.pdf"\nscale = "1:500"', "page"), ('kind = "map"\nfile = "m.pdf"\npage = "A9"', "A9"), ('kind = "picture"\nfile = "p.svg"', ".svg"), ('kind = "contours"\nfile = "c.gpkg"\nlevels = ["two"]', "two")):
            self.study([product])
            for words in (["--dry-run"], ["-o", "out"]):
                done = subprocess.run([TOOL, "study", "s.toml", *words], cwd=self.folder, env=self.environment, capture_output=True, text=True)
                self.assertIn(done.returncode, (2, 3, 4), (product, done.stdout, done.stderr))
                self.assertIn(said, done.stderr)
                self.assertFalse(os.path.exists(self.path("out/surface.tif")))

    def test_two_results_of_one_name_are_refused(self):
        """The second replaced the first."""
        for products in (['kind = "slope"\nfile = "s.tif"', 'kind = "aspect"\nfile = "s.tif"'], ['kind = "slope"\nfile = "surface.tif"']):
            self.study(products)
            self.assertIn("name of its own", self.refused("study", "s.toml", status=3))

    def test_a_crs_that_only_the_catalogue_knows(self):
        """The plan took it from there, the run refused the tile."""
        self.study([])
        for name in os.listdir(self.path("tiles")):
            if name.endswith(".prj"):
                os.remove(self.path(f"tiles/{name}"))
        ring = [[-30.9968, -37.5524], [-30.9962, -37.5524], [-30.9962, -37.5518], [-30.9968, -37.5518], [-30.9968, -37.5524]]
        frame = {"proj:code": "EPSG:32725", "proj:shape": [30, 30], "proj:transform": [1, 0, 677000, 0, -1, 5842030]}
        item = {"type": "Feature", "stac_version": "1.0.0", "id": "a", "bbox": [-30.9968, -37.5524, -30.9962, -37.5518], "geometry": {"type": "Polygon", "coordinates": [ring]}, "properties": {"datetime": "2022-01-01T00:00:00Z", **frame}, "links": [], "assets": {"data": {"href": "tiles/a.asc", "roles": ["data"]}}}
        with open(self.path("items.json"), "w") as f:
            json.dump({"type": "FeatureCollection", "features": [item]}, f)
        with open(self.path("s.toml")) as f:
            text = f.read()
        with open(self.path("s.toml"), "w") as f:
            f.write(text.replace('folder = "tiles"', 'in = "items.json"'))
        self.run_tool("study", "s.toml", "--dry-run")
        done = self.run_tool("study", "s.toml", "-o", "out", "--json")
        self.assertIn("assigned by its catalogue", " ".join(json.loads(done.stdout)["notes"]))
        self.assertIn("32725", self.run_json("look", "out/surface.tif")[0]["crs"])

    def test_plan_and_run_make_the_same_cells(self):
        """It planned 648 x 731 cells and made 647 x 730."""
        self.study(['kind = "slope"\nfile = "slope.tif"'])
        plan = self.run_json("study", "s.toml", "--dry-run")
        self.run_tool("study", "s.toml", "-o", "out")
        made = self.run_json("look", "out/surface.tif")[0]
        self.assertEqual(plan["cells"], made["cols"] * made["rows"])

    def test_a_late_failure_keeps_what_was_made(self):
        self.study(['kind = "contours"\nfile = "c.gpkg"\ninterval = "0.001 m"', 'kind = "slope"\nfile = "slope.tif"'])
        said = self.run_tool("study", "s.toml", "-o", "out", status=3).stderr
        self.assertIn("levels", said)
        for name in ("surface.tif", "slope.tif", "report.html", "run.json"):
            self.assertTrue(os.path.exists(self.path(f"out/{name}")), name)
        record = json.load(open(self.path("out/run.json")))
        self.assertEqual(len(record["failures"]), 1)
        self.assertIn("levels", open(self.path("out/report.html")).read())

    def test_a_run_is_repeated_from_its_record(self):
        """run.json was a record that could not be run."""
        self.study(['kind = "slope"\nfile = "slope.tif"', 'kind = "contours"\nfile = "c.gpkg"\ninterval = "5 m"', 'kind = "map"\nfile = "map.png"'])
        self.run_tool("study", "s.toml", "-o", "out")
        first = json.load(open(self.path("out/run.json")))
        self.assertEqual(first["unchanged"], [])
        os.remove(self.path("s.toml"))  # the record alone must do
        done = self.run_tool("study", "--again", "out/run.json", "-o", "second")
        self.assertIn("all 1 inputs are what they were", done.stdout)
        second = json.load(open(self.path("second/run.json")))
        self.assertEqual(second["unchanged"], ["surface.tif", "slope.tif", "c.gpkg"])
        for name in ("surface", "fill", "findings", "notes", "products"):
            self.assertEqual(second[name], first[name], name)
        # One thing changed: only what it bears on is made again.
        third = self.run_json("study", "--again", "out/run.json", "--set", "product.1.interval=2 m", "-o", "third")
        self.assertEqual(third["unchanged"], ["surface.tif", "slope.tif"])
        self.assertEqual(third["surface"]["sha256"], first["surface"]["sha256"])
        fourth = self.run_json("study", "--again", "out/run.json", "--set", "frame.cell=2m", "-o", "fourth")
        self.assertEqual(fourth["unchanged"], [])
        self.assertEqual(fourth["parameters"]["cell"], [2, 2])
        # Inputs that changed are said, and count.
        self.asc("tiles/a.asc", numpy.full((30, 30), 7.0))
        done = self.run_tool("study", "--again", "out/run.json", "-o", "fifth")
        self.assertIn("a.asc: changed", done.stdout)
        self.assertEqual(self.run_json("look", "fifth/surface.tif")[0]["range"], [7, 7])
        self.assertEqual(json.load(open(self.path("fifth/run.json")))["unchanged"], [])
        # Into its own folder only with --overwrite; nonsense is refused.
        self.assertIn("--overwrite", self.refused_here("study", "--again", "out/run.json"))
        self.run_tool("study", "--again", "out/run.json", "--overwrite")
        for words in (["--set", "product.9.interval=1 m"], ["--set", "frame"], ["--set", "title.x=1"], ["--set", "frame.colour=red"]):
            self.assertNotEqual(subprocess.run([TOOL, "study", "--again", "out/run.json", *words, "-o", "x"], cwd=self.folder, env=self.environment, capture_output=True).returncode, 0, words)
        self.refused("study", "--again", "area.json" if os.path.exists(self.path("area.json")) else "tiles/a.prj", status=3)

    def refused_here(self, *words):
        done = self.run_tool(*words, status=4)
        return done.stderr

    def test_a_study_that_was_stopped_goes_on(self):
        self.study(['kind = "slope"\nfile = "slope.tif"', 'kind = "hillshade"\nfile = "shade.tif"'])
        self.run_tool("study", "s.toml", "-o", "whole")
        for turn in range(6):
            out = f"out{turn}"
            running = subprocess.Popen([TOOL, "study", "s.toml", "-o", out], cwd=self.folder, env=self.environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
            time.sleep(0.05 + 0.06 * turn)
            running.send_signal(signal.SIGKILL)
            ended = running.wait()
            if ended == 0:
                continue
            self.run_tool("study", "s.toml", "-o", out)
            for name in ("surface.tif", "slope.tif", "shade.tif"):
                self.assertEqual(open(self.path(f"{out}/{name}"), "rb").read(), open(self.path(f"whole/{name}"), "rb").read(), name)
            self.assertFalse([f for f in os.listdir(self.path(out)) if ".part" in f])
        # One that came to its end is not touched.
        self.refused("study", "s.toml", "-o", "whole", status=4)

    def test_a_source_may_declare_its_void(self):
        self.study([], more="void = 0\n")
        self.run_tool("study", "s.toml", "-o", "out")
        self.assertGreater(self.run_json("look", "out/surface.tif")[0]["range"][0], 40)


class Endless(Mended):
    def test_a_folder_of_tiff_and_netcdf_ends(self):
        """look, mosaic and check of a folder with one of each hung for ever, deaf to SIGTERM, 5 times of 5."""
        os.makedirs(self.path("both"))
        self.asc("t.asc", numpy.ones((30, 30)))
        self.run_tool("clip", "t.asc", "-o", "both/a.tif")
        self.run_tool("clip", "t.asc", "-o", "both/b.nc")
        for _ in range(3):
            for words in (["look", "both"], ["mosaic", "both", "-o", "m.tif", "--overwrite"], ["check", "both"]):
                done = subprocess.run([TOOL, *words], cwd=self.folder, env=self.environment, capture_output=True, timeout=60)
                self.assertIn(done.returncode, (0, 1))

    def test_sigterm_always_works(self):
        """A helper that never answers is no reason not to end."""
        with open(self.path("slow"), "w") as f:
            f.write("#!/bin/sh\nexec sleep 600\n")
        os.chmod(self.path("slow"), 0o755)
        self.asc("t.asc", numpy.ones((3, 3)))
        self.run_tool("clip", "t.asc", "-o", "b.nc")
        running = subprocess.Popen([TOOL, "look", "b.nc"], cwd=self.folder, env=dict(self.environment, KATOPTRA_HELPER=self.path("slow")), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        time.sleep(0.5)
        start = time.time()
        running.send_signal(signal.SIGTERM)
        time.sleep(0.2)
        running.send_signal(signal.SIGTERM)
        running.wait(timeout=30)
        self.assertLess(time.time() - start, 15)
        self.assertEqual(running.returncode, 130)
        subprocess.run(["pkill", "-f", self.path("slow")])

    def test_a_service_that_says_continue_for_ever(self):
        class Odd(http.server.BaseHTTPRequestHandler):
            def do_GET(self):
                try:
                    while True:
                        self.wfile.write(b"HTTP/1.1 100 Continue\r\n\r\n")
                except OSError:
                    pass

            do_HEAD = do_GET

            def log_message(self, *words):
                pass

        server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Odd)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        self.addCleanup(server.shutdown)
        start = time.time()
        said = self.run_tool("look", f"http://127.0.0.1:{server.server_port}/a.tif", status=4).stderr
        self.assertIn("headers without an end", said)
        self.assertLess(time.time() - start, 60)

    def test_lines_stay_within_memory(self):
        """One small interval took 24 GiB and was killed."""
        ys, xs = numpy.mgrid[0:250, 0:500]
        self.asc("t.asc", 500 + 400 * numpy.sin(xs / 20.0) * numpy.cos(ys / 15.0))
        for interval in ("0.01m", "0.0001m"):
            self.assertIn("levels between", self.refused("contours", "t.asc", "--interval", interval, "-o", "c.gpkg", status=3))
        for words in (["-o", "c.dxf"], ["--smooth", "1m", "-o", "c.gpkg"], ["--bands", "-o", "c.gpkg"]):
            self.assertIn("--memory", self.refused("contours", "t.asc", "--interval", "0.1m", "--memory", "32M", *words, status=3))
        # Line by line they need no memory: 24 million points would take a gigabyte.
        before = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss
        self.run_tool("contours", "t.asc", "--interval", "0.1m", "--memory", "32M", "-o", "c.gpkg")
        self.assertLess(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss, max(before, 300 << 10))
        self.assertIn("no level meets", self.refused("contours", "t.asc", "--interval", "2000m", "--base", "100m", "-o", "c.gpkg", status=2))

    def test_parts_of_a_killed_run_go(self):
        gone = subprocess.Popen(["true"])
        gone.wait()
        for name in (f".o.tif.part-{gone.pid}-0", f".county.part-{gone.pid}"):
            if "tif" in name:
                open(self.path(name), "w").close()
            else:
                os.makedirs(self.path(name + "/x"))
        keep = [f".o.tif.part-{os.getpid()}-0", ".o.tif.part-x-0", "part-1-0", f"o.tif.part-{gone.pid}-0"]
        for name in keep:
            open(self.path(name), "w").close()
        self.asc("t.asc", numpy.ones((3, 3)))
        self.run_tool("clip", "t.asc", "-o", "b.tif")
        left = sorted(os.listdir(self.folder))
        self.assertFalse([f for f in left if str(gone.pid) in f and f.startswith(".")])
        for name in keep:
            self.assertIn(name, left)

    def test_archives_with_odd_names_and_nothing_inside(self):
        """tile.1.zip beside tile.2.zip, and an empty file in a zip, could not be unpacked."""
        os.makedirs(self.path("from"))
        self.asc("t.asc", numpy.ones((3, 3)))
        rows = ["kept,path,survey"]
        for n in (1, 2):
            with zipfile.ZipFile(self.path(f"from/tile.{n}.zip"), "w") as z:
                z.write(self.path("t.asc"), f"t{n}.asc")
                z.writestr("empty.txt", "")
            rows.append(f"1,{self.path(f'from/tile.{n}.zip')},S")
        with open(self.path("list.csv"), "w") as f:
            f.write("\n".join(rows) + "\n")
        self.run_tool("fetch", "list.csv", "-o", "to", "--unpack")
        for n in (1, 2):
            self.assertTrue(os.path.isfile(self.path(f"to/s/tile.{n}/t{n}.asc")), self.files())
            self.assertEqual(os.path.getsize(self.path(f"to/s/tile.{n}/empty.txt")), 0)


class Erred(Mended):
    def test_places_outside_are_said(self):
        """Degrees on a grid in metres: "nothing but voids", exit 0."""
        for words in (["section", SHEET, "--from", "-30.99,-37.557", "--to", "-30.98,-37.556", "-o", "s.csv"], ["sample", SHEET, "--at", "-30.99,-37.557"]):
            said = self.refused(*words, status=2)
            self.assertIn("@EPSG:4326", said)
            self.assertIn("677500", said)
        for place in ("-30.987,-37.5565@EPSG:4326", "30°59'13.2\"W,37°33'23.4\"S", "37°33'23.4\"S,30°59'13.2\"W"):
            row = self.run_tool("sample", SHEET, "--at", place).stdout.splitlines()[1].split(",")
            self.assertNotEqual(row[-1], "", place)
        self.assertIn("look swapped", self.refused("clip", SHEET, "--area", "box:-37.558,-30.99,-37.556,-30.985", "-o", "c.tif", status=2))
        self.assertIn("the data lie at", self.refused("clip", SHEET, "--area", "box:10,20,11,21", "-o", "c.tif", status=2))

    def test_dry_runs_write_nothing(self):
        """--dry-run of fill, compare and grid --uncertainty wrote files."""
        shutil.copytree(os.path.join(DEMO, "soundings-2021"), self.path("soundings"))
        soundings = [f for f in os.listdir(self.path("soundings")) if f.endswith((".xyz", ".csv"))][0]
        before = self.files()
        other = os.path.join(DEMO, "ground-2022", "sheet_b3.tif")
        for words in (["fill", SHEET, "-o", "a.tif"], ["clip", SHEET, "-o", "a.tif"], ["mosaic", SHEET, other, "-o", "a.tif"], ["reproject", SHEET, "--cell", "2m", "-o", "a.tif"], ["correct", SHEET, "--offset", "1m", "-o", "a.tif"], ["compare", SHEET, SHEET, "-o", "d.tif", "--map", "d.png", "--histogram", "h.png", "--corrected", "k.tif", "--worst", "w.gpkg"], ["grid", f"soundings/{soundings}", "--cell", "10m", "--uncertainty", "u.tif", "-o", "g.tif"]):
            self.run_tool(*words, "--dry-run")
            self.assertEqual(self.files(), before, words)

    def test_each_file_gets_its_answer(self):
        """look good text good2 printed nothing, and look folder/* stopped at a sidecar."""
        a = self.asc("a.asc", [[1, 2], [3, 4]])
        self.asc("b.asc", [[5, 6], [7, 8]])
        with open(self.path("text.tif"), "w") as f:
            f.write("this is a letter\n")
        done = self.run_tool("look", "a.asc", "text.tif", "b.asc", "a.prj", status=3)
        self.assertIn("1 to 4", done.stdout)
        self.assertIn("5 to 8", done.stdout)
        self.assertIn("goes with a.asc", done.stdout)
        self.assertEqual(done.stderr.count("\n"), 1)
        with open(self.path("bad.nc"), "wb") as f:
            f.write(b"\x89HDF\r\n\x1a\n" + b"\x01\x08" * 400)
        done = self.run_tool("look", "bad.nc", status=3)
        self.assertEqual(done.stderr.count("\n"), 1, "a library's own diagnostics came through")

    def test_an_undeclared_void_is_seen_by_look(self):
        """check found a void of 0 that is not declared; look did not."""
        ys, xs = numpy.mgrid[0:40, 0:40]
        z = 700 + 3 * numpy.sin(xs / 5) + ys / 10
        z[5:12, 6:14] = 0
        self.asc("z.asc", z)
        self.assertTrue([s for s in self.run_json("look", "z.asc")[0]["suspicious"] if "lowest value is 0" in s])
        self.assertFalse([s for s in self.run_json("look", SHEET)[0]["suspicious"] if "void value that is not declared" in s])
        self.asc("sea.asc", numpy.clip(xs - 10.0, 0, 30))
        self.assertFalse([s for s in self.run_json("look", "sea.asc")[0]["suspicious"] if "not declared" in s])

    def test_points_go_to_the_zone_they_lie_in(self):
        """grid --crs utm was refused where reproject took it, and look named an option that grid does not have."""
        with open(self.path("p.csv"), "w") as f:
            f.write("x,y,z\n-31.0,-37.55,3\n-31.001,-37.551,4\n-31.002,-37.55,5\n")
        self.assertIn("x -31.002000 to -31.000000", self.run_tool("look", "p.csv").stdout)
        said = self.run_tool("look", "p.csv").stdout
        self.assertIn("--from-crs", said)
        self.run_tool("points", "p.csv", "--from-crs", "EPSG:4326", "--crs", "utm", "-o", "p.las")
        self.assertIn("32725", self.run_json("look", "p.las")[0]["crs"])
        self.run_tool("grid", "p.csv", "--from-crs", "EPSG:4326", "--crs", "utm", "--cell", "50m", "-o", "g.tif")
        self.assertIn("32725", self.run_json("look", "g.tif")[0]["crs"])

    def test_words_lead_on(self):
        """Advice that led nowhere."""
        self.assertIn("'hillshade' may be meant", self.refused("hilshade", status=2))
        self.assertIn("'look' may be meant", self.refused("info", SHEET, status=2))
        self.assertIn("VERB --help", self.refused("help", status=2))
        self.assertIn("katoptra slope --help", self.refused("slope", SHEET, "-o", "a.tif", "--stripes", status=2))
        said = self.refused("contours", SHEET, "--interval", "5m", "-o", "c.dwg", status=3)
        self.assertNotIn(".xyz", said)  # which holds points alone
        self.assertIn(".csv", self.refused("section", SHEET, "--from", "677600,5841300", "--to", "677700,5841400", "-o", "s.tif", status=3))
        self.run_tool("section", SHEET, "--from", "677600,5841300", "--to", "677700,5841400", "-o", "s.csv")
        self.assertIn("the line goes through them", self.run_tool("map", SHEET, "--line", "s.csv", "-o", "m.png").stdout)
        self.asc("2019_sep.asc", numpy.full((5, 5), 2.5), cell=200, x=677000, y=5841000)
        for name in ("2019_sep.asc", "./2019_sep.asc", self.path("2019_sep.asc")):
            done = self.run_json("clip", SHEET, "--shift", name, "-o", "shifted.tif", "--overwrite")
            self.assertIn("separation 2019_sep.asc added", " ".join(done["notes"]))
        self.assertIn("not a length", self.refused("clip", SHEET, "--shift", "3 parsec", "-o", "x.tif", status=2))


if __name__ == "__main__":
    main()

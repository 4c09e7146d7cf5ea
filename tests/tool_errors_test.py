"""Bad input gives one clear line, the right exit status and no partial output."""
import os
import resource
import signal
import struct
import subprocess
import time
import unittest

from tool import DEMO, TOOL, ToolTest, main

SHEET = os.path.join(DEMO, "ground-2022", "sheet_b2.tif")
LOST = os.path.join(DEMO, "ground-2022", "sheet_c1.tif")
CUT = os.path.join(DEMO, "ground-2016", "ground_nw.tif")
COAST = os.path.join(DEMO, "coast-2014", "coast.tif")


class BadInput(ToolTest):
    def test_wrong_usage_is_2(self):
        for words in ([], ["fly"], ["mosaic"], ["clip", SHEET], ["hillshade", SHEET, "-o"], ["mosaic", SHEET, "-o", "a.tif", "--nonsense"]):
            self.refused(*words, status=2)
        self.assertIn("not an area", self.refused("clip", SHEET, "--area", "box:1,2,3", "-o", "a.tif", status=2))
        self.assertIn("altitude", self.refused("hillshade", SHEET, "--altitude", "95deg", "-o", "a.tif", status=2))
        self.assertIn("not a length", self.refused("contours", SHEET, "--interval", "tall", "-o", "a.geojson", status=2))
        self.refused("reproject", SHEET, "--crs", "EPSG:1", "-o", "a.tif", status=2)

    def test_no_crs(self):
        for verb in (["clip", LOST, "--area", "box:677000,5841000,678000,5842000@EPSG:32725"], ["reproject", LOST, "--crs", "EPSG:4326"], ["mosaic", SHEET, LOST]):
            said = self.refused(*verb, "-o", "a.tif", status=3)
            self.assertIn("sheet_c1.tif", said)
            self.assertIn("-crs", said)

    def test_different_references_are_refused_by_name(self):
        said = self.refused("mosaic", SHEET, COAST, "-o", "a.tif", status=3)
        self.assertIn("coast.tif", said)
        self.assertIn("ellipsoid", said)

    def test_truncated(self):
        for verb in (["mosaic", CUT], ["hillshade", CUT], ["fill", CUT], ["slope", CUT]):
            said = self.refused(*verb, "-o", "a.tif", status=3)
            self.assertIn("ground_nw.tif", said)
            self.assertIn("truncated", said)
        # Its header can be read: look tells and goes on.
        found = self.run_json("look", CUT, SHEET)
        self.assertEqual(len(found), 2)
        self.assertTrue(any("truncated" in s for s in found[0]["suspicious"]))
        self.assertNotIn("range", found[0])
        self.assertIn("damaged", self.run_tool("check", CUT, status=1).stdout)

    def test_what_is_no_grid(self):
        open(self.path("empty.tif"), "w").close()
        with open(self.path("text.tif"), "w") as f:
            f.write("this is a letter\n")
        self.assertIn("is empty", self.refused("look", "empty.tif", status=3))
        self.assertIn("not in a grid format", self.refused("look", "text.tif", status=3))
        self.assertIn("No such file", self.refused("look", "nowhere.tif", status=4))
        self.refused("hillshade", "text.tif", "-o", "a.tif", status=3)

    def test_absurd_sizes_in_a_header(self):
        def tiff(cols, rows, strip_rows, bits=32):
            tags = [(256, 4, cols), (257, 4, rows), (258, 3, bits), (259, 3, 1), (262, 3, 1), (273, 4, 200), (277, 3, 1), (278, 4, strip_rows), (279, 4, 100), (339, 3, 3)]
            body = struct.pack("<2sHIH", b"II", 42, 8, len(tags))
            for tag, kind, value in tags:
                body += struct.pack("<HHII", tag, kind, 1, value)
            return body + b"\0" * 300

        for n, content in enumerate([tiff(0xFFFFFFFF, 0xFFFFFFFF, 1), tiff(2000000000, 2000000000, 2000000000), tiff(0, 10, 10), tiff(70000, 70000, 70000), tiff(10, 10, 10, bits=13)]):
            with open(self.path(f"{n}.tif"), "wb") as f:
                f.write(content)

            def limit():
                resource.setrlimit(resource.RLIMIT_AS, (2 << 30, 2 << 30))

            done = self.run_tool("look", f"{n}.tif", status=3, preexec_fn=limit)
            self.assertEqual(done.stderr.count("\n"), 1, done.stderr)

    def test_output_that_cannot_be_written(self):
        self.assertIn("nowhere", self.refused("hillshade", SHEET, "-o", "nowhere/a.tif", status=4))
        with open(self.path("a.tif"), "w") as f:
            f.write("precious")
        self.assertIn("--overwrite", self.refused("hillshade", SHEET, "-o", "a.tif", status=4))
        self.assertEqual(open(self.path("a.tif")).read(), "precious")
        self.run_tool("hillshade", SHEET, "-o", "a.tif", "--overwrite")
        self.refused("hillshade", SHEET, "-o", "a.xyw", status=3)
        os.mkdir(self.path("folder.tif"))
        self.refused("hillshade", SHEET, "-o", "folder.tif", "--overwrite", status=4)

    def test_full_disk(self):
        # A file may not grow past 16 KiB here; the system says so as it does of a full disk.
        def limit():
            signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
            resource.setrlimit(resource.RLIMIT_FSIZE, (16384, 16384))

        for verb, out in ((["hillshade", SHEET], "a.tif"), (["mosaic", SHEET], "b.tif"), (["contours", SHEET, "--interval", "1m"], "c.geojson"), (["contours", SHEET, "--interval", "1m"], "d.gpkg"), (["map", SHEET], "e.png")):
            done = self.run_tool(*verb, "-o", out, status=4, preexec_fn=limit)
            self.assertEqual(done.stderr.count("\n"), 1, done.stderr)
            self.assertEqual(self.files(), [])

    def test_interrupt(self):
        self.run_tool("reproject", SHEET, "--crs", "EPSG:32725", "--cell", "0.05m", "-o", "a.tif", "--dry-run")
        process = subprocess.Popen([TOOL, "reproject", SHEET, "--cell", "0.05m", "-o", self.path("a.tif")], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
        # As soon as it writes, it is interrupted.
        deadline = time.time() + 30
        while not self.files() and time.time() < deadline:
            time.sleep(0.01)
        self.assertTrue(self.files())
        process.send_signal(signal.SIGINT)
        out, err = process.communicate(timeout=30)
        self.assertEqual(process.returncode, 130, err)
        self.assertEqual(err.count("\n"), 1, err)
        self.assertEqual(out, "")
        self.assertEqual(self.files(), [])

    def test_bad_vector_files_and_lines(self):
        with open(self.path("area.geojson"), "w") as f:
            f.write('{"type":"FeatureCollection","features":[]}')
        self.assertIn("no polygon", self.refused("clip", SHEET, "--area", "area.geojson", "-o", "a.tif", status=3))
        self.refused("section", SHEET, "--line", "area.geojson", "-o", "a.csv", status=3)
        self.refused("section", SHEET, "--from", "677600,5841400", "-o", "a.csv", status=2)
        self.refused("section", SHEET, "--from", "here", "--to", "there", "-o", "a.csv", status=2)
        self.refused("sample", SHEET, status=2)
        self.refused("find", "--in", "nowhere", "--area", "circle:-31,-37.55,1km", status=4)
        self.refused("study", "nowhere.toml", status=4)
        with open(self.path("bad.toml"), "w") as f:
            f.write("[area\n")
        self.assertIn("line 1", self.refused("study", "bad.toml", status=3))

    def test_hostile_zip_writes_nothing(self):
        import zipfile

        with zipfile.ZipFile(self.path("evil.zip"), "w") as z:
            z.writestr("../../escaped.hgt", b"x" * 100)
        before = self.files()
        self.run_tool("look", "evil.zip", status=3)
        self.assertEqual(self.files(), before)


if __name__ == "__main__":
    main()

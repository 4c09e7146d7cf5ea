"""Running the katoptra tool in tests: helpers shared by the tool_*_test.py files."""
import json
import os
import shutil
import subprocess
import tempfile
import unittest

import numpy

TOOL = os.environ["KATOPTRA"]
SOURCE = os.environ["KATOPTRA_SOURCE"]
DEMO = os.path.join(SOURCE, "demo", "data")


class ToolTest(unittest.TestCase):
    """A test in a folder of its own that goes away."""

    def setUp(self):
        self.folder = tempfile.mkdtemp(prefix="katoptra-tool-")
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)

    def path(self, name):
        return os.path.join(self.folder, name)

    def run_tool(self, *words, status=0, **options):
        done = subprocess.run([TOOL, *map(str, words)], capture_output=True, text=True, cwd=self.folder, timeout=240, **options)
        self.assertEqual(done.returncode, status, f"katoptra {' '.join(map(str, words))}\n{done.stdout}\n{done.stderr}")
        return done

    def run_json(self, *words, status=0):
        done = self.run_tool(*words, "--json", status=status)
        self.assertEqual(done.stderr, "")
        return json.loads(done.stdout)

    def refused(self, *words, status):
        """One clear line on stderr, nothing on stdout, no file more than before."""
        before = self.files()
        done = self.run_tool(*words, status=status)
        self.assertEqual(done.stdout, "")
        self.assertEqual(done.stderr.count("\n"), 1, done.stderr)
        self.assertTrue(done.stderr.startswith("katoptra: "), done.stderr)
        self.assertEqual(self.files(), before, "something was left behind")
        return done.stderr

    def files(self):
        return sorted(os.path.join(d, f) for d, _, names in os.walk(self.folder) for f in names)

    def read_raster(self, path, page=0):
        """A grid as another program sees it: libtiff unpacks it, tifffile reads it. Voids are NaN."""
        import tifffile

        plain = self.path("plain-" + os.path.basename(path))
        subprocess.run(["tiffcp", "-c", "none", f"{path},{page}", plain], check=True, stderr=subprocess.DEVNULL)
        with tifffile.TiffFile(path) as tif:
            tags = tif.pages[page].tags
            void = tags[42113].value if 42113 in tags else None
            geo = tif.pages[0].geotiff_tags
        values = tifffile.imread(plain).astype(float)
        os.unlink(plain)
        if void is not None and void != "nan":
            values[values == float(void)] = numpy.nan
        return values, geo


def main():
    unittest.main(verbosity=1, warnings="ignore")

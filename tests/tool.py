"""Running the katoptra tool in tests: helpers shared by the tool_*_test.py files."""
import json
import os
import shutil
import struct
import subprocess
import tempfile
import unittest
import zlib

import numpy

TOOL = os.environ["KATOPTRA"]
SOURCE = os.environ["KATOPTRA_SOURCE"]
DEMO = os.path.join(SOURCE, "demo", "data")


class ToolTest(unittest.TestCase):
    """A test in a folder of its own that goes away."""

    def setUp(self):
        self.folder = tempfile.mkdtemp(prefix="katoptra-tool-")
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)
        # What the tool keeps for its user goes to a place of the test's own.
        self.home = tempfile.mkdtemp(prefix="katoptra-home-")
        self.addCleanup(shutil.rmtree, self.home, ignore_errors=True)
        self.environment = dict(os.environ, HOME=self.home)
        for name in ("KATOPTRA_KEY", "KATOPTRA_BOOK", "KATOPTRA_GAZETTEER", "XDG_CACHE_HOME", "XDG_DATA_HOME"):
            self.environment.pop(name, None)

    def path(self, name):
        return os.path.join(self.folder, name)

    def run_tool(self, *words, status=0, **options):
        options.setdefault("env", self.environment)
        done = subprocess.run([TOOL, *map(str, words)], capture_output=True, text=True, cwd=self.folder, timeout=240, **options)
        self.assertIn(done.returncode, status if isinstance(status, tuple) else (status,), f"katoptra {' '.join(map(str, words))}\n{done.stdout}\n{done.stderr}")
        return done

    def with_key(self, key):
        return dict(self.environment, KATOPTRA_KEY=key)

    def serve(self, folder=DEMO, *words, key=None):
        """The stand-in service until the test ends; its address."""
        log = open(os.path.join(self.home, f"serve{len(os.listdir(self.home))}.log"), "w")
        self.addCleanup(log.close)
        service = subprocess.Popen([TOOL, "serve", folder, "--log", *map(str, words)], stdout=subprocess.PIPE, stderr=log, text=True, env=self.with_key(key) if key else self.environment)

        def stop():
            service.terminate()
            service.wait(timeout=20)
            service.stdout.close()

        self.addCleanup(stop)
        self.log = log.name
        return service.stdout.readline().strip()

    def run_json(self, *words, status=0, **options):
        done = self.run_tool(*words, "--json", status=status, **options)
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


def png(data):
    """The bytes of a PNG's pixels, by row, column and part: no library, the five filters undone."""
    cols, rows, depth, kind = struct.unpack(">IIBB", data[16:26])
    channels = {0: 1, 2: 3, 4: 2, 6: 4}[kind] * (depth // 8)
    packed, at = b"", 8
    while at < len(data):
        n, name = struct.unpack(">I4s", data[at:at + 8])
        packed += data[at + 8:at + 8 + n] if name == b"IDAT" else b""
        at += 12 + n
    raw, out = zlib.decompress(packed), numpy.zeros((rows, cols * channels), numpy.uint8)
    above = numpy.zeros(cols * channels, numpy.int64)
    for r in range(rows):
        line = bytearray(raw[r * (cols * channels + 1) + 1:(r + 1) * (cols * channels + 1)])
        how = raw[r * (cols * channels + 1)]
        for i in range(len(line)):
            left = line[i - channels] if i >= channels else 0
            up, corner = int(above[i]), int(above[i - channels]) if i >= channels else 0
            if how == 1:
                line[i] = (line[i] + left) & 255
            elif how == 2:
                line[i] = (line[i] + up) & 255
            elif how == 3:
                line[i] = (line[i] + (left + up) // 2) & 255
            elif how == 4:
                p = left + up - corner
                near = min((abs(p - left), 0, left), (abs(p - up), 1, up), (abs(p - corner), 2, corner))[2]
                line[i] = (line[i] + near) & 255
        out[r] = above = numpy.frombuffer(bytes(line), numpy.uint8)
        above = above.astype(numpy.int64)
    return out.reshape(rows, cols, channels)

"""A surface too large for one page, shown by `view` without -o: finer cells and all points come when one comes near."""
import json
import os
import subprocess
import urllib.error
import urllib.parse
import urllib.request

import numpy
from page_testing import PageTest
from tool import DEMO, TOOL, main

LIDAR = os.path.join(DEMO, "lidar-2022")


class LiveView(PageTest):
    def shown(self, *words):
        service = subprocess.Popen([TOOL, "view", *map(str, words)], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, env=self.environment, cwd=self.folder)

        def stop():
            service.terminate()
            self.assertIn(service.wait(timeout=20), (0, 130))
            service.stdout.close()
            service.stderr.close()

        self.addCleanup(stop)
        self.service = service
        return service.stdout.readline().strip()

    def ask(self, script, *words):
        return self.browser.js("const {page, scene, asking, surfaces} = window.katoptra; " + script, *words)

    def answer(self, address, path, **headers):
        try:
            with urllib.request.urlopen(urllib.request.Request(address + path, headers=headers)) as reply:
                return reply.status, reply.read()
        except urllib.error.HTTPError as e:
            return e.code, e.read()

    def near(self, address, x, y, distance=60):
        """Looks at a place from so many metres, until its cells have come."""
        self.browser.open(address)
        self.ask("const c = surfaces[0].ground.cell(arguments[0], arguments[1]); const {flat} = surfaces[0]; scene.setView({...scene.view, x: flat.x(c.col, c.row), y: flat.y(c.row), z: (surfaces[0].height(c.col, c.row) || 0) * scene.up, distance: arguments[2], tilt: 80})", x, y, distance)
        self.browser.wait("window.katoptra.scene.inset")

    def test_what_is_asked_near_by_is_exact(self):
        self.run_tool("mosaic", os.path.join(DEMO, "ground-2022"), "--crs", "EPSG:32725", "--unit", "m", "-o", "whole.tif")
        address = self.shown(self.path("whole.tif"), "--cells", "6000", "--quiet")
        x, y = 677532.3, 5841396.6
        self.near(address, x, y)
        self.assertEqual(self.browser.js("return document.documentElement.dataset.level"), "0")
        cell = self.ask("return surfaces[0].ground.cell(arguments[0], arguments[1])", x, y)
        told = self.run_json("sample", "whole.tif", "--at", f"{x},{y}")["points"][0]["value"]
        self.assertAlmostEqual(self.ask("return surfaces[0].height(arguments[0].col, arguments[0].row)", cell), told, delta=0.0006)
        # A section there has the points of the tool's.
        other = self.ask("return surfaces[0].ground.cell(arguments[0], arguments[1])", x + 37.25, y - 11.5)
        ours = self.ask("page.take('section'); asking.follow([[arguments[0].col, arguments[0].row], [arguments[1].col, arguments[1].row]]); return asking.section.map((p) => [p.distance, p.value])", cell, other)
        self.run_tool("section", "whole.tif", "--from", f"{x},{y}", "--to", f"{x + 37.25},{y - 11.5}", "-o", "section.csv")
        theirs = numpy.genfromtxt(self.path("section.csv"), delimiter=",", names=True)
        self.assertEqual(len(ours), len(theirs))
        values = numpy.array([v for _, v in ours], float)
        self.assertEqual(numpy.isnan(values).tolist(), numpy.isnan(theirs["value"]).tolist())
        self.assertLess(numpy.nanmax(numpy.abs(values - theirs["value"])), 0.002)
        # The part is drawn where it lies: what is under the middle is where one looks.
        hit = self.ask("scene.paint(); return scene.under(scene.width / 2, scene.height / 2)")
        place = self.ask("return surfaces[0].ground.place(arguments[0].col, arguments[0].row)", hit)
        self.assertLess(max(abs(place["x"] - x), abs(place["y"] - y)), 3)
        for i in range(4):
            self.browser.choose("#drape", i)
        self.ask("scene.setView(scene.home())")
        self.browser.wait("document.documentElement.dataset.level > 0")  # from far away, larger ones
        self.assertEqual(self.browser.log(), [])

    def test_a_folder_of_tiles_with_its_points(self):
        folder = self.path("tiles")
        os.mkdir(folder)
        for name in ("ground-2022/sheet_b2.tif", "ground-2022/sheet_b1.tif", "lidar-2022/lidar_nw.laz"):
            os.symlink(os.path.join(DEMO, name), os.path.join(folder, os.path.basename(name)))
        address = self.shown(folder, "--unit", "m", "--cells", "5000", "--most-points", "2000")
        self.near(address, 677560, 5841620, 40)
        self.browser.wait("window.katoptra.scene.inset.cloud")
        shown = self.ask("return [page.facts.points.shown, page.facts.points.there, scene.inset.cloud.facts.shown, scene.inset.cloud.facts.there]")
        self.assertEqual(shown[0], 2000)
        self.assertGreater(shown[1], 50_000)
        self.assertEqual(shown[2], shown[3], "near by, all of them")
        self.run_tool("points", os.path.join(folder, "lidar_nw.laz"), "-o", "points.csv", "--write-columns", "x,y,z,class")
        table = numpy.genfromtxt(self.path("points.csv"), delimiter=",", names=True)
        frame = self.ask("return scene.inset.surface.ground.facts")
        inside = (table["x"] >= frame["west"]) & (table["x"] <= frame["west"] + frame["cols"] * frame["cell"][0]) & (table["y"] <= frame["north"]) & (table["y"] >= frame["north"] - frame["rows"] * frame["cell"][1])
        self.assertEqual(shown[2], int(inside.sum()))
        # A point that is struck is one of the file.
        chosen = table[inside][numpy.argmax(table["z"][inside] * (table["class"][inside] != 7) * (table["class"][inside] != 18))]
        hit = self.ask("const c = surfaces[0].ground.cell(arguments[0], arguments[1]); scene.setView({...scene.view, x: surfaces[0].flat.x(c.col, c.row), y: surfaces[0].flat.y(c.row), z: arguments[2], tilt: 90}); scene.paint(); const p = scene.screen(c.col, c.row, arguments[2]); return scene.struck(p.x, p.y)", float(chosen["x"]), float(chosen["y"]), float(chosen["z"]))
        self.assertIn("point", hit)
        self.assertAlmostEqual(hit["height"], chosen["z"], delta=0.0021)
        self.assertEqual(self.browser.log(), [])

    def test_questions_are_bounded_and_pages_of_others_get_nothing(self):
        address = self.shown(os.path.join(DEMO, "ground-2022", "sheet_b2.tif"), "--cells", "1000")
        good = "window?level=0&col=0&row=0&cols=64&rows=64"
        status, body = self.answer(address, good)
        self.assertEqual(status, 200)
        self.assertEqual(json.loads(body)["frame"]["cols"], 64)
        for path, wanted in (("window", 400), ("window?level=0&col=0&row=0&cols=64", 400), (good.replace("cols=64", "cols=1e9"), 413), (good.replace("col=0", "col=-5"), 400), (good.replace("level=0", "level=99999999999"), 400),
                             (good.replace("level=0", "level=0.5"), 400), (good.replace("row=0", "row=nan"), 400), (good.replace("rows=64", "rows=99999"), 413), ("../etc/passwd", 404), ("points?level=0&col=0&row=0&cols=0&rows=0", 400)):
            status, body = self.answer(address, path)
            self.assertEqual(status, wanted, path)
        for headers in ({"Origin": "http://evil.example"}, {"Sec-Fetch-Site": "cross-site"}, {"Host": "evil.example", "Sec-Fetch-Site": "same-origin"}):
            self.assertEqual(self.answer(address, good, **headers)[0], 403)

    def test_when_the_tool_has_ended_the_page_says_so_and_goes_on(self):
        address = self.shown(os.path.join(DEMO, "ground-2022", "sheet_b2.tif"), "--cells", "1000")
        self.browser.open(address)
        self.service.terminate()
        self.service.wait(timeout=20)
        self.ask("scene.setView({...scene.view, distance: 20})")
        self.browser.wait("document.getElementById('saying').textContent.includes('still running')")
        self.assertIsNotNone(self.ask("return scene.under(scene.width / 2, scene.height / 2)"))

    def test_a_file_that_changes_meanwhile_is_said(self):
        import shutil

        shutil.copy(os.path.join(DEMO, "ground-2022", "sheet_b2.tif"), self.path("sheet.tif"))
        address = self.shown(self.path("sheet.tif"), "--cells", "1000")
        self.browser.open(address)
        with open(self.path("sheet.tif"), "ab") as f:
            f.write(b"more")
        self.ask("scene.setView({...scene.view, distance: 20})")
        self.browser.wait("document.getElementById('saying').textContent.includes('changed')")

    def test_what_cannot_be_shown_is_refused(self):
        # Nothing is shown, nor waited for, when only what would be is asked.
        self.assertIn("500 x 400", self.run_tool("view", os.path.join(DEMO, "ground-2022", "sheet_b2.tif"), "--dry-run").stdout)
        # Of a folder its name stands above the page, also of the one here.
        os.mkdir(self.path("isle"))
        os.symlink(os.path.join(DEMO, "ground-2022", "sheet_b2.tif"), self.path("isle/sheet_b2.tif"))
        here = subprocess.run([TOOL, "view", ".", "--dry-run"], cwd=self.path("isle"), capture_output=True, text=True, env=self.environment, check=True)
        self.assertEqual(here.stdout.split("\n")[0], "isle")
        self.assertIn("--out", self.refused("view", os.path.join(DEMO, "ground-2022", "sheet_b2.tif"), "--port", "0", "-o", "page.html", status=2))
        os.mkdir(self.path("empty"))
        self.assertIn("holds no tile", self.refused("view", "empty", status=3))
        port = self.serve().split(":")[2].strip("/")
        self.assertIn("--port", self.refused("view", os.path.join(DEMO, "ground-2022", "sheet_b2.tif"), "--port", port, status=4))


if __name__ == "__main__":
    main()

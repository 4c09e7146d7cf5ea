"""The page of a surface, opened in a browser: what it shows, what it answers, what it does when something is wrong."""
import csv
import io
import json
import os
import time

import numpy
from browser import Browser, Keys, data_of
from page_testing import PageTest
from tool import DEMO, main, png

SHEET = os.path.join(DEMO, "ground-2022", "sheet_b2.tif")


class ViewTest(PageTest):
    def view(self, *words, **options):
        self.run_tool("view", *words, "-o", "page.html", "--overwrite", **options)
        return self.path("page.html")

    def looked_at(self, *words):
        page = self.view(*words)
        self.opened(page)
        return page

    def ask(self, script, *words):
        return self.browser.js("const {page, scene, asking, surfaces} = window.katoptra; " + script, *words)

    def middle(self):
        return self.ask("return [scene.width / 2, scene.height / 2]")


class Looking(ViewTest):
    def test_a_page_is_whole_in_one_file_and_draws_itself(self):
        page = self.looked_at(SHEET)
        text = open(page).read()
        for word in ("http://", "https://"):
            for place in ("src=", "href=", "url(", "import("):
                self.assertNotIn(place + word, text)
                self.assertNotIn(place + '"' + word, text)
        data = sum(len(p) for p in text.split("<script")[3:])
        self.assertLess(len(text) - data, 1_000_000)
        self.assertEqual(self.browser.text("h1"), "sheet_b2")
        self.assertIn("EGM2008", self.browser.text("header"))
        self.assertTrue(self.browser.js("return document.getElementById('saying').hidden"))
        self.assertGreater(self.browser.js("return window.katoptra.triangles()"), 1000)
        # Something else than the ground behind it is seen in the middle.
        picture = png(self.browser.png())
        self.assertGreater(len(numpy.unique(picture[300:500:4, 300:700:4].reshape(-1, picture.shape[2]), axis=0)), 200)

    def test_a_height_under_the_pointer_is_that_of_sample(self):
        self.looked_at(SHEET)
        for x, y in ((0.5, 0.5), (0.4, 0.55), (0.62, 0.46)):
            wide, high = (2 * v for v in self.middle())
            self.browser.point("#over", wide * x, high * y).click().perform()
            corner = self.ask("return asking.corners[0]")
            place = self.ask("return surfaces[0].ground.place(arguments[0].col, arguments[0].row)", corner)
            told = float(self.run_json("sample", SHEET, "--at", f"{place['x']!r},{place['y']!r}")["points"][0]["value"])
            self.assertAlmostEqual(corner["height"], told, delta=0.0006)
            self.assertIn(f"{told:.2f}"[:-1], self.browser.text("#answer").replace("−", "-"))
        self.assertEqual(self.browser.log(), [])

    def test_how_sure_a_height_is_is_shown_and_told(self):
        stated = ("--uncertainty", "0.05m+0.5m*slope", "--error-reach", "0m")
        self.looked_at(SHEET, *stated)
        self.assertIn("uncertainty", self.ask("return page.drapes.map((d) => d.label)"))
        for col, row in ((300, 200), (40, 150), (180, 90)):
            told = dict(self.ask("return asking.atPlace({col: arguments[0] + 0.5, row: arguments[1] + 0.5, height: 0})", col, row))
            place = self.ask("return surfaces[0].ground.place(arguments[0] + 0.5, arguments[1] + 0.5)", col, row)
            there = self.run_json("sample", SHEET, *stated, "--at", f"{place['x']!r},{place['y']!r}")["points"][0]
            if there["value"] is None:
                self.assertEqual(told["uncertainty"], "void")
                continue
            self.assertAlmostEqual(float(told["uncertainty"].split()[0]), there["uncertainty"], delta=0.002)
            self.assertGreater(there["uncertainty"], 0.05)
        # Of a surface that carries none nothing is said.
        self.looked_at(SHEET)
        self.assertNotIn("uncertainty", self.ask("return page.drapes.map((d) => d.label)"))

    def test_slopes_are_those_of_the_tool(self):
        self.run_tool("slope", SHEET, "-o", "slope.tif")
        slopes, _ = self.read_raster(self.path("slope.tif"))
        self.looked_at(SHEET)
        rows, cols = slopes.shape
        ours = numpy.array(self.ask("const g = surfaces[0].gradients(); return Array.from(g.east, (p, i) => Math.atan(Math.hypot(p, g.north[i])) * 180 / Math.PI)"), float).reshape(rows, cols)
        self.assertEqual(numpy.isnan(slopes).sum(), numpy.isnan(ours).sum())
        # Half a millimetre of each height, over cells of a metre.
        self.assertLess(numpy.nanmax(numpy.abs(ours - slopes)), 0.05)

    def test_a_section_by_two_clicks_is_that_of_the_tool(self):
        self.looked_at(SHEET)
        self.browser.click('[data-tool="section"]')
        wide, high = (2 * v for v in self.middle())
        self.browser.point("#over", wide * 0.4, high * 0.45).click().perform()
        self.browser.point("#over", wide * 0.6, high * 0.6).click().perform()
        a, b = self.ask("return asking.corners.map((p) => surfaces[0].ground.place(p.col, p.row))")
        self.run_tool("section", SHEET, "--from", f"{a['x']!r},{a['y']!r}", "--to", f"{b['x']!r},{b['y']!r}", "-o", "section.csv")
        theirs = list(csv.DictReader(open(self.path("section.csv"))))
        ours = list(csv.DictReader(io.StringIO(self.saved("Save CSV"))))
        self.assertEqual(len(ours), len(theirs))
        self.assertGreater(len(ours), 20)
        for mine, other in zip(ours, theirs):
            for key, by in (("distance", 0.0011), ("x", 0.0011), ("y", 0.0011), ("value", 0.0016)):
                self.assertEqual(mine[key] == "", other[key] == "", mine)
                if mine[key]:
                    self.assertAlmostEqual(float(mine[key]), float(other[key]), delta=by)
        # Pointing at the graph marks the place on the surface, and the other way round.
        self.browser.point("#drawer svg", 400, 80).perform()
        marked = self.ask("return asking.marked")
        self.assertAlmostEqual(marked["value"], float(ours[self.ask("return asking.section.indexOf(asking.marked)")]["value"]), delta=0.001)
        at = self.ask("const p = asking.section[7]; return scene.screen(p.col, p.row, p.value)")
        self.browser.point("#over", at["x"], at["y"]).perform()
        self.browser.wait("window.katoptra.asking.marked !== null")
        self.assertLess(abs(self.ask("return asking.section.indexOf(asking.marked)") - 7), 3)
        self.assertEqual(self.browser.log(), [])

    def test_in_degrees_and_in_feet_it_says_what_the_tool_says(self):
        orbit = os.path.join(DEMO, "orbit-2000", "S38W031.hgt.zip")
        self.run_tool("clip", orbit, "--area", "box:-30.999,-37.58,-30.95,-37.53", "-o", "degrees.tif")
        feet = os.path.join(DEMO, "ground-2022", "sheet_b1.tif")
        for surface, a, b in (("degrees.tif", (0.35, 0.3), (0.6, 0.62)), (feet, (0.3, 0.4), (0.62, 0.55))):
            self.looked_at(surface)
            ends = self.ask("return arguments[0].map(([c, r]) => { const s = surfaces[0]; const p = {col: c * s.cols, row: r * s.rows}; return {...p, height: s.height(p.col, p.row), ...s.ground.place(p.col, p.row)}; })", [a, b])
            words = [f"{e['x']!r},{e['y']!r}" for e in ends]
            told = [p["value"] for p in self.run_json("sample", surface, "--at", words[0], "--at", words[1])["points"]]
            for end, value in zip(ends, told):
                if value is not None:
                    self.assertAlmostEqual(end["height"], value, delta=0.0011)
            self.run_tool("section", surface, "--from", words[0], "--to", words[1], "-o", "line.csv", "--overwrite")
            theirs = list(csv.DictReader(open(self.path("line.csv"))))
            ours = self.ask("page.take('section'); asking.follow(arguments[0].map((p) => [p.col, p.row])); return asking.section.map((p) => [p.distance, p.value])", ends)
            self.assertEqual(len(ours), len(theirs))
            self.assertAlmostEqual(ours[-1][0], float(theirs[-1]["distance"]), delta=2e-6 * ours[-1][0] + 0.001)
            for mine, other in zip(ours, theirs):
                if other["value"]:
                    self.assertAlmostEqual(mine[1], float(other["value"]), delta=0.0011 + 2e-5 * abs(mine[1]))
            self.assertIn("ft" if surface == feet else " m", self.browser.text("#answer"))
            level = 30 if surface == feet else 40
            told = self.run_json("statistics", surface, "--level", level)["levels"][0]["volume_below_m3"]
            box = self.browser.js_later("const done = arguments[1]; const f = document.getElementById('level'); f.value = arguments[0]; f.dispatchEvent(new Event('change')); setTimeout(() => done(document.getElementById('water').textContent), 50)", level)
            number = float(box.split(",")[1].replace("\u202f", "").replace("m³", ""))
            self.assertAlmostEqual(number, told, delta=1 + 3e-5 * told)

    def test_volumes_below_a_level_are_those_of_statistics(self):
        self.looked_at(SHEET)
        for level in (12.5, 30):
            told = self.run_json("statistics", SHEET, "--level", f"{level}m")
            ours = self.browser.js_later("const done = arguments[1]; const f = document.getElementById('level'); f.value = arguments[0]; f.dispatchEvent(new Event('change')); setTimeout(() => done(document.getElementById('water').textContent), 50)", level)
            self.assertIn("m³", ours)
            number = float(ours.split(",")[1].replace("\u202f", "").replace("m³", ""))
            self.assertAlmostEqual(number, self.volume_below(told, level), delta=max(1, 2e-5 * number))

    def volume_below(self, told, level):
        (entry,) = told["levels"]
        self.assertEqual(entry["level"], level)
        return entry["volume_below_m3"]

    def test_an_area_is_measured(self):
        self.looked_at(SHEET)
        self.browser.click('[data-tool="area"]')
        wide, high = (2 * v for v in self.middle())
        for x, y in ((0.42, 0.48), (0.52, 0.45), (0.5, 0.52)):
            self.browser.point("#over", wide * x, high * y).click().perform()
        self.assertEqual(self.ask("return asking.corners.length"), 3)
        ring = self.ask("return asking.corners.map((p) => surfaces[0].ground.place(p.col, p.row))")
        shape = {"type": "FeatureCollection", "features": []}
        lon_lat = self.ask("return asking.corners.map((p) => { const g = surfaces[0].ground.globe(p.col, p.row); return [g.lon, g.lat]; })")
        shape["features"].append({"type": "Feature", "properties": {}, "geometry": {"type": "Polygon", "coordinates": [lon_lat + lon_lat[:1]]}})
        json.dump(shape, open(self.path("area.geojson"), "w"))
        told = self.run_json("statistics", SHEET, "--area", self.path("area.geojson"))
        twice = sum(a["x"] * b["y"] - b["x"] * a["y"] for a, b in zip(ring, ring[1:] + ring[:1]))
        answer = self.browser.text("#answer")
        self.assertIn("ha" if abs(twice) / 2 > 1e4 else "m²", answer)
        cells = int(answer.split("cells")[1].split(",")[0].replace("\u202f", ""))
        self.assertAlmostEqual(cells, told["cells"] - told["voids"], delta=3)

    def test_turning_with_mouse_and_keys_and_the_address_that_keeps_it(self):
        self.looked_at(SHEET)
        x, y = self.middle()
        before = self.ask("return scene.view")
        chain = self.browser.point("#over", x, y).click_and_hold()
        for _ in range(6):
            chain = chain.move_by_offset(15, 4)
        chain.release().perform()
        after = self.ask("return scene.view")
        self.assertNotAlmostEqual(before["bearing"], after["bearing"])
        self.assertGreater(after["tilt"], before["tilt"])
        self.assertEqual(self.ask("return asking.corners.length"), 0, "a drag is no click")
        self.browser.js("document.getElementById('over').focus()")
        self.browser.keys(Keys.ARROW_RIGHT, Keys.ARROW_UP, "+")
        self.assertLess(self.ask("return scene.view.distance"), after["distance"])
        self.browser.keys(Keys.ENTER)
        self.assertIn("height", self.browser.text("#answer"))
        self.browser.choose("#drape", 2)
        self.browser.wait("location.hash.includes('drape=2')")
        address = self.browser.js("return location.href")
        seen = self.ask("return [scene.view, page.current]")
        self.browser.driver.get("about:blank")
        self.browser.open(address)
        again = self.ask("return [scene.view, page.current]")
        self.assertEqual(again[1], 2)
        for key in ("x", "y", "distance", "bearing", "tilt"):
            self.assertAlmostEqual(again[0][key], seen[0][key], delta=0.06)

    def test_every_way_of_looking_draws_without_a_complaint(self):
        self.run_tool("compare", SHEET, os.path.join(DEMO, "reference", "truth.tif"), "-o", "difference.tif")
        self.run_tool("picture", SHEET, "--contours", "5m", "-o", "relief.png")
        self.looked_at(SHEET, os.path.join(DEMO, "reference", "truth.tif"), "--drape", "relief.png", "--drape", "difference.tif", "--drape", "landforms:radius=20m", "--line", os.path.join(DEMO, "transect.geojson"), "--pins", os.path.join(DEMO, "control.csv"))
        names = self.browser.js("return [...document.querySelectorAll('#drape option')].map((o) => o.textContent)")
        self.assertIn("difference", " ".join(names))
        self.assertIn("landforms", " ".join(names))
        # A picture lies where it should: its pixels are those of the file.
        self.assertIn("relief", names)
        theirs = png(open(self.path("relief.png"), "rb").read())
        ours = self.ask("const d = page.drapes.find((x) => x.label === 'relief'); const t = d.cols / surfaces[0].cols; return arguments[0].map(([c, r]) => { const at = 4 * (Math.floor((r + 0.5) * t) * d.cols + Math.floor((c + 0.5) * t)); return [...d.bytes.slice(at, at + 3)]; })", [[120, 200], [150, 260], [300, 100]])
        for (c, r), pixel in zip([[120, 200], [150, 260], [300, 100]], ours):
            if theirs[r, c, 3]:
                self.assertLess(max(abs(int(a) - int(b)) for a, b in zip(theirs[r, c, :3], pixel)), 12, (c, r))
        seen = set()
        for i in range(len(names)):
            self.browser.choose("#drape", i)
            seen.add(self.browser.js_later("const done = arguments[0]; window.katoptra.scene.png().then((b) => b.arrayBuffer()).then((b) => done(b.byteLength))"))
        self.assertGreater(len(seen), len(names) - 3, "each looks different")
        self.ask("page.contours(2); page.exaggerate(3); page.sun(90, 20); scene.curtain = 0.5; scene.paint()")
        self.ask("scene.curtain = null; scene.which = 1; scene.walkFrom(surfaces[0].cols / 2, surfaces[0].rows / 2); scene.paint()")
        self.assertTrue(self.ask("return scene.view.walks"))
        self.browser.js("document.querySelector('.pins button').click()")
        self.assertIn("C01", self.browser.js("return document.getElementById('pin').textContent"))
        self.assertEqual(self.browser.log(), [])


class Points(ViewTest):
    LIDAR = os.path.join(DEMO, "lidar-2022", "lidar_nw.laz")

    def shown(self, *words):
        page = self.looked_at(SHEET, "--points", self.LIDAR, *words)
        self.browser.wait("document.documentElement.dataset.points")
        return page

    def there(self):
        """The points on the sheet, by the tool's own text."""
        self.run_tool("points", self.LIDAR, "-o", "points.csv", "--write-columns", "x,y,z,class,return", "--overwrite")
        table = numpy.genfromtxt(self.path("points.csv"), delimiter=",", names=True)
        frame = self.ask("return surfaces[0].ground.facts")
        west, north = frame["west"], frame["north"]
        inside = (table["x"] >= west) & (table["x"] <= west + frame["cols"] * frame["cell"][0]) & (table["y"] <= north) & (table["y"] >= north - frame["rows"] * frame["cell"][1])
        return table[inside]

    def test_all_of_them_are_there_with_what_is_known_of_each(self):
        self.shown()
        theirs = self.there()
        facts = self.ask("return page.facts.points")
        self.assertEqual(facts["shown"], len(theirs))
        for k in facts["classes"]:
            self.assertEqual(k["points"], int((theirs["class"] == k["code"]).sum()), k)
        ours = numpy.array(self.ask("const out = []; for (const b of page.cloud.blocks) for (let i = 0; i < b.n; i += 7) { const c = surfaces[0].flat.cell(b.place[3 * i], b.place[3 * i + 1]); const p = surfaces[0].ground.place(c.col, c.row); out.push([p.x, p.y, b.place[3 * i + 2], b.facts[4 * i], b.facts[4 * i + 2] % 16]); } return out"))
        from scipy.spatial import cKDTree

        tree = cKDTree(numpy.column_stack([theirs["x"], theirs["y"], theirs["z"]]))
        away, which = tree.query(ours[:, :3])
        self.assertLess(away.max(), 0.012)  # half a centimetre each way, and floats on the way
        self.assertTrue((theirs["class"][which] == ours[:, 3]).mean() > 0.9999)

    def test_a_point_is_asked_and_heights_are_measured_between_two(self):
        self.shown()
        self.ask("scene.setView(scene.home(0, 90)); scene.paint()")
        theirs = self.there()
        high = theirs[(theirs["class"] != 7) & (theirs["class"] != 18)]
        chosen = high[numpy.argmax(high["z"])]
        cell = self.ask("return surfaces[0].ground.cell(arguments[0], arguments[1])", float(chosen["x"]), float(chosen["y"]))
        at = self.ask("return scene.screen(arguments[0], arguments[1], arguments[2])", cell["col"], cell["row"], float(chosen["z"]))
        hit = self.ask("return scene.struck(arguments[0], arguments[1])", at["x"], at["y"])
        self.assertIn("point", hit)
        near = theirs[numpy.argmin(numpy.hypot(theirs["x"] - (self.ask("return surfaces[0].ground.place(arguments[0], arguments[1]).x", hit["col"], hit["row"])), theirs["y"] - self.ask("return surfaces[0].ground.place(arguments[0], arguments[1]).y", hit["col"], hit["row"])))]
        self.assertAlmostEqual(hit["height"], near["z"], delta=0.002)
        self.browser.click('[data-tool="measure"]')
        self.ask("asking.click(arguments[0]); asking.click({...arguments[0], height: arguments[0].height - 4, point: undefined})", hit)
        self.assertIn("4.00 m", self.browser.text("#answer"))

    def test_classes_returns_and_a_slab_hide_points(self):
        self.shown()
        count = "let n = 0; for (const b of page.cloud.blocks) for (let i = 0; i < b.n; ++i) if (page.cloud.isShown(b, i)) ++n; return n"
        theirs = self.there()
        self.assertEqual(self.ask(count), len(theirs))
        self.ask("page.cloud.switchClass(2, false)")
        self.assertEqual(self.ask(count), int((theirs["class"] != 2).sum()))
        self.ask("page.cloud.switchClass(2, true); page.cloud.switchReturn(1, false)")
        self.assertEqual(self.ask(count), int((theirs["return_"] != 1).sum()))
        self.ask("page.cloud.switchReturn(1, true); page.take('section'); asking.follow([[100, 100], [300, 100]]); page.slab = true; page.slabWide = 3; page.cutSlab()")
        y = self.ask("return surfaces[0].ground.place(0, 100).y")
        beside = int((numpy.abs(theirs["y"] - y) <= 3).sum())
        self.assertAlmostEqual(self.ask(count), beside, delta=0.02 * beside + 5)
        for mode in ("height", "class", "intensity", "return", "line"):
            self.browser.choose("#points-by", mode)
        self.assertEqual(self.browser.log(), [])

    def test_of_too_many_as_many_as_may_be_are_shown_and_said(self):
        done = self.run_json("view", SHEET, "--points", self.LIDAR, "--most-points", "1000", "-o", "few.html")
        self.assertEqual(done["points"], 1000)
        self.assertTrue(any("1000 are shown" in n for n in done["notes"]), done["notes"])
        self.browser.open(self.path("few.html"))
        self.assertIn("1000 of ", self.browser.text("#panel"))
        far = os.path.join(DEMO, "ground-2022", "sheet_a1.tif")
        self.assertIn("no point lies", self.refused("view", far, "--points", os.path.join(DEMO, "lidar-2022", "lidar_se.laz"), "-o", "none.html", status=3))


class Wrong(ViewTest):
    def test_a_page_that_was_cut_off_says_so(self):
        text = open(self.view(SHEET)).read()
        for part in (0.9, 0.999):
            with open(self.path("cut.html"), "w") as f:
                f.write(text[: int(len(text) * part)])
            self.browser.open(self.path("cut.html"))
            self.assertIn("not whole", self.browser.text("#saying"))

    def test_a_page_whose_data_are_damaged_says_so(self):
        text = open(self.view(SHEET)).read()
        at = text.index('id="plane0">') + 3000
        with open(self.path("damaged.html"), "w") as f:
            f.write(text[:at] + "AAAA" + text[at + 4:])
        self.browser.open(self.path("damaged.html"))
        self.assertIn("cannot be shown", self.browser.text("#saying"))

    def test_without_graphics_a_sentence_stands_there(self):
        page = self.view(SHEET)
        plain = Browser(graphics=False)
        self.addCleanup(plain.quit)
        plain.open(page)
        self.assertIn("WebGL", plain.text("#saying"))

    def test_what_is_no_surface_and_what_is_no_page_is_refused(self):
        self.run_tool("slope", SHEET, "-o", "slope.tif")
        self.assertIn("not heights", self.refused("view", self.path("slope.tif"), "-o", "page.html", status=3))
        self.assertIn(".html", self.refused("view", SHEET, "-o", "page.pdf", status=3))
        self.assertIn("four", self.refused("view", *[SHEET] * 5, "-o", "page.html", status=2))
        self.run_tool("view", SHEET, "-o", "page.html")
        self.assertIn("--overwrite", self.refused("view", SHEET, "-o", "page.html", status=4))
        self.run_tool("view", SHEET, "-o", "other.html", "--dry-run")
        self.assertFalse(os.path.exists(self.path("other.html")))

    def test_hostile_words_run_nothing(self):
        bad = ["<script>window.hurt=1</script>", "</script><script>window.hurt=2</script>", '"><img src=x onerror="window.hurt=3">', "javascript:window.hurt=4", "\u202eleft\u202c", "]]>", "<!--", "\\u003c/script>"]
        with open(self.path("pins.geojson"), "w") as f:
            json.dump({"type": "FeatureCollection", "features": [{"type": "Feature", "properties": {"name": b, "severity": "warning", "message": b, "advice": b}, "geometry": {"type": "Point", "coordinates": [-30.9889, -37.555]}} for b in bad]}, f)
        self.looked_at(SHEET, "--pins", "pins.geojson", "--title", bad[1] + bad[2])
        for i in range(len(bad)):
            self.browser.js("document.querySelectorAll('.pins button')[arguments[0]].click()", i)
            self.assertIn(bad[i].replace("\u202e", "").replace("\u202c", "")[:6], self.browser.text("#pin").replace("\u202e", ""))
        time.sleep(0.2)
        self.assertIsNone(self.browser.js("return window.hurt ?? null"))
        self.assertEqual(self.browser.text("h1"), bad[1] + bad[2])
        self.assertEqual(self.browser.log(), [])
        # Even what got into the page would not run: the page names the scripts that may.
        self.browser.js("const s = document.createElement('script'); s.textContent = 'window.hurt = 5'; document.body.append(s); document.body.insertAdjacentHTML('beforeend', '<img src=x onerror=\"window.hurt = 6\">')")
        time.sleep(0.2)
        self.assertIsNone(self.browser.js("return window.hurt ?? null"))

    def test_a_large_surface_is_shown_by_larger_cells_and_says_so(self):
        done = self.run_json("view", SHEET, "-o", "small.html", "--cells", "5000")
        self.assertLessEqual(done["cols"] * done["rows"], 5000)
        self.assertTrue(any("larger" in n for n in done["notes"]), done)
        facts = data_of(open(self.path("small.html")).read(), "facts")
        self.assertEqual(facts["surfaces"][0]["times"], done["times"])
        self.browser.open(self.path("small.html"))
        self.assertIn("times as wide", self.browser.text("header"))


if __name__ == "__main__":
    main()

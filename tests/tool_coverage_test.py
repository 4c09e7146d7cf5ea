"""The page of what covers an area, written by find and shown live by serve, opened in a browser."""
import csv
import http.client
import io
import json
import os
import random
import shutil
import time
import urllib.request

import numpy
from browser import data_of
from page_testing import PageTest
from tool import DEMO, main, png

AREA = "box:-31.0105,-37.5620,-30.9780,-37.5440"


class CoverageTest(PageTest):
    def find(self, *words, area=AREA):
        found = self.run_json("find", "--in", DEMO, "--area", area, "--page", "coverage.html", "--overwrite", *words)
        self.opened(self.path("coverage.html"))
        return found

    def pixel(self, lon, lat):
        p = self.browser.js("return window.katoptra.map.px(arguments[0], arguments[1])", lon, lat)
        return p["x"], p["y"]

    def draw_box(self, west, south, east, north):
        self.browser.js_later("const done = arguments[1]; window.katoptra.map.show(arguments[0]); setTimeout(done, 60)", [west, south, east, north])
        self.browser.click('[data-draw="box"]')
        x0, y0 = self.pixel(west, north)
        x1, y1 = self.pixel(east, south)
        chain = self.browser.point("#map .above", x0, y0).click_and_hold()
        for i in range(1, 5):
            chain = chain.move_by_offset(round((x1 - x0) * i / 4) - round((x1 - x0) * (i - 1) / 4), round((y1 - y0) * i / 4) - round((y1 - y0) * (i - 1) / 4))
        chain.release().perform()


class Written(CoverageTest):
    def test_the_page_says_what_find_says(self):
        found = self.find()
        told = self.browser.text("#coverage")
        share = found["covered_fraction"]
        self.assertIn("100 %" if share == 1 else f"{100 * share:.1f}"[:4], told)
        kept = [t for t in found["tiles"] if t["kept"]]
        self.assertIn(f"{len(kept)} of {len(found['tiles'])}", told)
        self.assertLess(os.path.getsize(self.path("coverage.html")), 1_000_000)
        self.assertGreater(len(numpy.unique(png(self.browser.png())[100:700:5, 50:800:5].reshape(-1, 3), axis=0)), 100)

    def test_gaps_and_what_would_close_them(self):
        found = self.find("--kind", "grid", "--survey", "ground 2022")
        self.assertGreater(len(found["gaps"]["features"]), 0)
        told = self.browser.text("#coverage")
        self.assertIn(found["gaps"]["features"][0]["properties"]["where"], told)
        self.browser.click("#coverage .pins button")
        box = self.browser.js("return window.katoptra.map.seen()")
        self.assertGreater(box[2], box[0])
        self.assertEqual(self.browser.log(), [])

    def test_the_shortlist_saved_is_that_of_find_and_fetch_reads_it(self):
        self.run_tool("find", "--in", DEMO, "--area", AREA, "-o", "theirs.csv")
        self.find()
        ours = self.saved("Save shortlist.csv")
        self.assertEqual(ours, open(self.path("theirs.csv")).read())
        # By hand: one dropped, one kept that was not.
        rows = list(csv.DictReader(io.StringIO(ours)))
        drop = next(r for r in rows if r["kept"] == "1" and "ground-2022" in r["path"])
        keep = next(r for r in rows if r["kept"] == "0" and r["access"] == "open")
        for row in (drop, keep):
            number = self.browser.js("return window.katoptra.page.tiles.findIndex((t) => t.path === arguments[0])", row["path"])
            self.browser.js("window.katoptra.page.raise(arguments[0], true)", number)
            self.browser.js("document.getElementById('hand').click()")
        by_hand = self.saved("Save shortlist.csv")
        changed = {r["path"]: r["kept"] for r in csv.DictReader(io.StringIO(by_hand))}
        self.assertEqual((changed[drop["path"]], changed[keep["path"]]), ("0", "1"))
        self.assertIn("2 by hand", self.browser.text("#kept"))
        self.assertIn("about", self.browser.text("#coverage"))
        with open(self.path("hand.csv"), "w") as f:
            f.write(by_hand)
        fetched = self.run_json("fetch", "hand.csv", "-o", "tiles", "--no-book")
        names = " ".join(os.path.basename(t["path"]) for t in fetched["tiles"])
        self.assertIn(os.path.basename(keep["path"]).split("#")[0], names)
        self.assertNotIn(os.path.basename(drop["path"]), names)

    def test_everything_under_the_pointer_one_at_a_time(self):
        found = self.find()
        x, y = self.pixel(-30.9900, -37.5580)
        self.browser.point("#map .above", x, y).click().perform()
        names = self.browser.js("return [...document.querySelectorAll('#tiles button')].map((b) => b.textContent)")
        self.assertGreater(len(names), 2)
        first = self.browser.text("#tile h3")
        self.browser.point("#map .above", x, y).click().perform()
        self.assertNotEqual(self.browser.text("#tile h3"), first, "another click at the same place goes on to the next")
        self.browser.js("document.querySelector('#tiles button').focus()")
        self.browser.keys("\ue015")  # arrow down
        self.assertEqual(self.browser.js("return document.activeElement.textContent"), names[1])
        tile = self.browser.text("#tile")
        for t in found["tiles"]:
            if tile.startswith(os.path.join(os.path.basename(os.path.dirname(t.get("path", ""))), os.path.basename(t.get("path", "")))):
                self.assertIn(t["reason"][:20], tile)
                self.assertIn(t["licence"], tile)
                break
        else:
            self.fail("the tile told is none of those found: " + tile)

    def test_filters_hide_tiles_and_change_the_command(self):
        self.find()
        self.browser.js("document.querySelector('[data-filter=from]').closest('details').open = true")
        before = self.browser.js("return window.katoptra.page.passing().length")
        self.browser.choose("[data-filter=from]", 2020)
        self.browser.choose("[data-filter=cell]", 2)
        after = self.browser.js("return window.katoptra.page.passing().map((t) => [t.date, t.cell_m])")
        self.assertLess(len(after), before)
        self.assertTrue(all(d >= "2020" and c <= 2 for d, c in after))
        command = self.browser.text("#commands code")
        self.assertIn("--year 2020..", command)
        self.assertIn("--cell 2m", command)
        # The command does what it says.
        words = command.replace("shortlist.csv", "again.csv").split()
        self.run_tool(*words[1:])
        self.assertTrue(os.path.exists(self.path("again.csv")))

    def test_areas_typed_and_drawn_are_told_as_text_and_as_geojson(self):
        self.find()
        self.browser.choose("#area", "circle:30°59'W,37°33'S,300m")
        self.assertEqual(self.browser.js("return document.getElementById('area').value"), "circle:-30.983333,-37.55,300m")
        self.assertIn("another area", self.browser.text("#coverage"))
        shape = json.loads(self.saved("Save GeoJSON"))
        ring = shape["features"][0]["geometry"]["coordinates"][0][0]
        self.assertEqual(ring[0], ring[-1])
        with open(self.path("area.geojson"), "w") as f:
            json.dump(shape, f)
        self.assertGreater(self.run_json("find", "--in", DEMO, "--area", "area.geojson")["covered_fraction"], 0.9)
        self.draw_box(-30.995, -37.560, -30.985, -37.552)
        text = self.browser.js("return document.getElementById('area').value")
        self.assertTrue(text.startswith("box:"), text)
        west, south, east, north = map(float, text[4:].split(","))
        for got, wanted in ((west, -30.995), (south, -37.560), (east, -30.985), (north, -37.552)):
            self.assertAlmostEqual(got, wanted, delta=1.5e-4)
        self.browser.wait(f"document.getElementById('commands').textContent.includes('{text}')")
        self.browser.choose("#area", "box:1,2,3")
        self.assertIn("box:W,S,E,N", self.browser.text("#area-says"))
        self.assertEqual(self.browser.log(), [])

    def test_hostile_names_run_nothing(self):
        bad = "<img src=x onerror=window.hurt=1>"
        folder = self.path("evil")
        shutil.copytree(os.path.join(DEMO, "ground-2022"), folder)
        with open(os.path.join(folder, "survey.toml"), "w") as f:
            f.write(f"name = \"\"\"</script><script>window.hurt=2</script>{bad}\"\"\"\nlicence = \"javascript:window.hurt=3\"\ncustodian = '\"><svg onload=window.hurt=4>'\nrestricted = [\"sheet_b2\"]\n")
        os.rename(os.path.join(folder, "sheet_b1.tif"), os.path.join(folder, bad.replace("/", "") + ".tif"))
        self.run_tool("find", "--in", folder, "--area", AREA, "--page", "evil.html", "--all")
        self.browser.open(self.path("evil.html"))
        for i in range(len(data_of(open(self.path("evil.html")).read(), "answer")["tiles"])):
            self.browser.js("window.katoptra.page.raise(arguments[0], true)", i)
        time.sleep(0.2)
        self.assertIsNone(self.browser.js("return window.hurt ?? null"))
        self.assertIn("<script>", self.browser.text("#tile") + self.browser.text("#coverage") + self.browser.js("return document.querySelector('[data-filter=survey]').textContent"))
        self.assertEqual(self.browser.log(), [])

    def test_a_page_without_its_end_and_one_of_another_ending(self):
        self.find()
        text = open(self.path("coverage.html")).read()
        with open(self.path("cut.html"), "w") as f:
            f.write(text[:-200])
        self.browser.open(self.path("cut.html"))
        self.assertIn("not whole", self.browser.text("#saying"))
        self.assertIn(".html", self.refused("find", "--in", DEMO, "--area", AREA, "--page", "coverage.pdf", status=2))

    def test_ten_thousand_footprints_answer_the_pointer(self):
        items = []
        place = random.Random(4)
        for i in range(10_000):
            w, s = -31.2 + 0.4 * place.random(), -37.7 + 0.3 * place.random()
            e, n = w + 0.004, s + 0.003
            items.append({"type": "Feature", "stac_version": "1.0.0", "id": f"t{i}", "geometry": {"type": "Polygon", "coordinates": [[[w, s], [e, s], [e, n], [w, n], [w, s]]]}, "bbox": [w, s, e, n], "properties": {"datetime": f"20{i % 20:02d}-05-01T00:00:00Z"}, "links": [], "assets": {"data": {"href": f"./t{i}.tif", "type": "image/tiff"}}})
        with open(self.path("many.json"), "w") as f:
            json.dump({"type": "FeatureCollection", "features": items}, f)
        self.run_tool("find", "--in", "many.json", "--area", "box:-31.2,-37.7,-30.8,-37.4", "--page", "many.html")
        self.browser.open(self.path("many.html"))
        self.assertGreater(self.browser.js("return window.katoptra.page.placed.length"), 9_990)
        found = self.browser.js("const p = window.katoptra.page; const at = p.map.px(-31.0, -37.55); p.hover(at.x, at.y); return (p.under ?? []).length")
        brute = sum(1 for i in items if i["bbox"][0] <= -31.0 <= i["bbox"][2] and i["bbox"][1] <= -37.55 <= i["bbox"][3])
        self.assertEqual(found, brute)


class Live(CoverageTest):
    def test_an_area_drawn_is_searched_by_the_service(self):
        address = self.serve()
        self.browser.open(address)
        self.assertEqual(self.browser.js("return document.querySelectorAll('#tiles li').length"), 0)
        self.draw_box(-30.995, -37.560, -30.985, -37.552)
        self.browser.wait("window.katoptra.page.live")
        text = self.browser.js("return document.getElementById('area').value")
        theirs = self.run_json("find", "--in", address, "--area", text)
        told = self.browser.text("#coverage")
        kept = [t["href"] for t in theirs["tiles"] if t["kept"]]
        self.assertIn(f"{len(kept)} of {len(theirs['tiles'])}", told)
        ours = self.browser.js("return window.katoptra.page.tiles.filter((t) => t.kept).map((t) => t.href)")
        self.assertEqual(sorted(ours), sorted(kept))
        # Dropped by hand, the rest is searched anew.
        self.browser.js("const p = window.katoptra.page; p.hand(p.tiles.find((t) => t.href === arguments[0]), 'drop')", kept[0])
        self.browser.wait("!window.katoptra.page.pending && window.katoptra.page.tiles.some((t) => t.reason === 'dropped by hand')")
        self.assertNotIn(kept[0], self.browser.js("return window.katoptra.page.tiles.filter((t) => t.kept).map((t) => t.href)"))
        # Those elsewhere stay on the map, for the next area; the file has those of this one.
        everything = self.browser.js("return window.katoptra.page.everything.length")
        self.assertEqual(self.browser.js("return window.katoptra.page.tiles.length"), everything)
        self.assertGreater(everything, len(theirs["tiles"]))
        self.assertEqual(len(list(csv.DictReader(io.StringIO(self.saved("Save shortlist.csv"))))), len(theirs["tiles"]))
        # A filter goes along.
        self.browser.choose("[data-filter=to]", 2016)
        self.browser.wait("!window.katoptra.page.pending && window.katoptra.page.tiles.filter((t) => t.kept).every((t) => t.date < '2017')")
        rows = list(csv.DictReader(io.StringIO(self.saved("Save shortlist.csv"))))
        self.assertTrue(any(r["kept"] == "1" for r in rows))
        self.assertEqual(self.browser.log(), [])

    def ask(self, address, body, **headers):
        request = urllib.request.Request(address + "coverage", data=body if isinstance(body, bytes) else json.dumps(body).encode(), headers={"Content-Type": "application/json", **headers})
        try:
            with urllib.request.urlopen(request) as reply:
                return reply.status, json.loads(reply.read())
        except urllib.error.HTTPError as e:
            return e.code, json.loads(e.read() or b'{"title": "nothing asked"}')

    def test_what_is_no_question_is_refused(self):
        address = self.serve()
        for body in (b"", b"{", b"[]", {}, {"text": "/etc/passwd"}, {"text": "like:/etc/passwd"}, {"text": "place:kessa"}, {"shape": "x"}, {"shape": [[[["a", 1]]]]}, {"shape": [[[[1, 2], [3, 4]]]]},
                     {"text": AREA, "filter": {"from": "soon"}}, {"text": AREA, "filter": {"kind": "cheese"}}, {"text": AREA, "filter": {"cell": "1e999"}}, {"shape": [[[[0, 0]] + [[i * 1e-5, 1 + i % 2] for i in range(30_000)] + [[0, 0]]]]}):
            status, answer = self.ask(address, body)
            self.assertEqual(status, 400, body if len(str(body)) < 200 else "many corners")
            self.assertTrue(answer["title"])
        status, answer = self.ask(address, {"text": AREA, "filter": {"from": "2016", "to": 2022, "kind": "grid"}})
        self.assertEqual(status, 200)
        self.assertTrue(any(t["kept"] for t in answer["tiles"]))

    def test_an_area_across_the_antimeridian_meets_tiles_of_both_sides(self):
        folder = self.path("isles")
        os.mkdir(folder)
        for name, west in (("west", 179.96), ("east", -180)):
            with open(os.path.join(folder, name + ".asc"), "w") as f:
                f.write(f"ncols 4\nnrows 4\nxllcorner {west}\nyllcorner -10\ncellsize 0.01\n" + "1 2 3 4\n" * 4)
            with open(os.path.join(folder, name + ".prj"), "w") as f:
                f.write("EPSG:4326")
        address = self.serve(folder)
        status, answer = self.ask(address, {"text": "box:179.97,-9.99,-179.97,-9.97"})
        self.assertEqual(status, 200)
        theirs = self.run_json("find", "--in", folder, "--area", "box:179.97,-9.99,-179.97,-9.97")
        self.assertEqual(len(theirs["tiles"]), 2)
        self.assertEqual(sorted(os.path.basename(t["href"]) for t in answer["tiles"]), ["east.asc", "west.asc"])
        self.assertAlmostEqual(answer["covered_fraction"], theirs["covered_fraction"])

    def get(self, address, path, method="GET", **headers):
        host = address.split("/")[2]
        c = http.client.HTTPConnection(host, timeout=30)
        c.putrequest(method, path, skip_host="Host" in headers, skip_accept_encoding=True)
        for name, value in headers.items():
            c.putheader(name.replace("_", "-"), value)
        c.putheader("Content-Length", "0")
        c.endheaders()
        reply = c.getresponse()
        body = reply.read()
        c.close()
        return reply.status, body, reply.headers

    def test_pages_of_others_get_nothing(self):
        address = self.serve()
        port = address.split(":")[2].strip("/")
        for path, method in (("/", "GET"), ("/collections", "GET"), ("/coverage", "POST"), ("/processes/extract/execution", "POST"), ("/files/area.geojson", "GET")):
            for headers in ({"Origin": "http://evil.example"}, {"Origin": "null"}, {"Sec_Fetch_Site": "cross-site"}, {"Sec_Fetch_Site": "same-site"}, {"Host": f"evil.example:{port}", "Sec_Fetch_Site": "same-origin"}, {"Host": f"evil.example:{port}", "Origin": f"http://evil.example:{port}"}):
                status, body, _ = self.get(address, path, method, Accept="text/html", **headers)
                self.assertEqual(status, 403, (path, headers))
        # A link that a person follows, and programs, are let in.
        self.assertEqual(self.get(address, "/", Accept="text/html", Sec_Fetch_Site="cross-site", Sec_Fetch_Mode="navigate")[0], 200)
        self.assertEqual(self.get(address, "/")[0], 200)
        status, body, headers = self.get(address, "/", Accept="text/html")
        self.assertIn("default-src 'none'", headers["Content-Security-Policy"])
        self.assertIn("frame-ancestors 'none'", headers["Content-Security-Policy"])
        self.assertEqual(headers["X-Content-Type-Options"], "nosniff")
        self.assertIn("application/json", self.get(address, "/", Accept="application/json")[2]["Content-Type"])

    def test_no_path_outside_the_folder_is_read(self):
        address = self.serve()
        for path in ("/files/../CMakeLists.txt", "/files/%2e%2e/CMakeLists.txt", "/files/..%2fCMakeLists.txt", "/files//etc/passwd", "/files/%2fetc%2fpasswd", "/files/ground-2022/../../README.md", "/..%5c..%5cetc", "/files/sheet%00.tif", "/files/" + "a" * 5000):
            status, body, _ = self.get(address, path)
            self.assertIn(status, (400, 404, 414), path)
            self.assertNotIn(b"root:", body)

    def test_the_book_is_shown_where_data_were_asked_for(self):
        book = self.path("orders.book")
        address = self.serve()
        self.run_tool("find", "--in", address, "--area", AREA, "-o", "list.csv")
        self.run_tool("fetch", "list.csv", "-o", "tiles", "--book", book)
        self.run_tool("find", "--in", address, "--area", AREA, "--page", "page.html", "--book", book)
        self.browser.open(self.path("page.html"))
        self.browser.js("const e = document.querySelector('[data-layer=demand]'); e.click()")
        self.assertIn("1 orders and fetches", self.browser.js("return document.body.textContent"))
        other = self.serve(DEMO, "--book", book)
        self.browser.open(other)
        self.assertTrue(self.browser.js("return document.querySelector('[data-layer=demand]') !== null"))
        self.assertEqual(self.browser.log(), [])


if __name__ == "__main__":
    main()

"""The three pages of the example study, as a person meets them: the report that answers, on paper and without scripts, too."""
import os
import subprocess
import tempfile
import shutil

from browser import BY, Browser
from page_testing import PageTest
from tool import TOOL, main


class ReportPage(PageTest):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.isle = tempfile.mkdtemp(prefix="katoptra-isle-")
        subprocess.run([TOOL, "demo", cls.isle, "--overwrite", "--quiet"], check=True)

    @classmethod
    def tearDownClass(cls):
        super().tearDownClass()
        shutil.rmtree(cls.isle, ignore_errors=True)

    def out(self, name):
        return os.path.join(self.isle, "out", name)

    def opened(self, name="report.html"):
        super().opened(self.out(name))

    def ask(self, script, *words):
        return self.browser.js("const {report, map, surfaces} = window.katoptra; " + script, *words)

    def test_what_is_asked_is_what_sample_says(self):
        self.opened()
        cell = {"col": 512.5, "row": 402.25}
        p = self.ask("document.querySelector('.asks').scrollIntoView(); return map.px(arguments[0].col, -arguments[0].row)", cell)
        self.browser.point("#map .above", p["x"], p["y"]).click().perform()
        place = self.ask("return surfaces[0].ground.place(report.asked.col, report.asked.row)")
        at = f"{place['x']!r},{place['y']!r}"
        told = self.run_json("sample", self.out("surface.tif"), "--at", at)["points"][0]["value"]
        answer = self.browser.text("#answer").replace("−", "-")
        self.assertIn(f"{told:.3f}"[:-1], answer)
        truth = self.run_json("sample", os.path.join(self.isle, "reference", "truth.tif"), "--at", at)["points"][0]["value"]
        self.assertIn(f"{truth:.3f}"[:-1], answer)
        self.assertIn("where it comes from", answer)
        self.assertEqual(self.browser.log(), [])

    def test_layers_are_switched_and_blended(self):
        self.opened()
        seen = set()
        shot = "const c = map.ground.getContext('2d').getImageData(300, 200, 40, 40).data; let n = 0; for (const v of c) n = (n * 31 + v) % 1000003; return n"
        seen.add(self.ask(shot))
        names = self.browser.js("return [...document.querySelectorAll('[data-layer]')].map((e) => e.dataset.layer)")
        self.assertGreater(len(names), 8)
        for name in names[1:-1]:
            self.browser.js("document.querySelector('[data-layer=\"' + arguments[0] + '\"]').click()", name)
            self.ask("map.paint()")
            seen.add(self.ask(shot))
        self.assertGreater(len(seen), len(names) - 3)
        before = self.ask(shot)
        self.browser.js("const e = document.querySelector('[data-layer=\"light\"]').closest('label').querySelector('[type=range]'); e.value = 0.1; e.dispatchEvent(new Event('input'))")
        self.ask("map.paint()")
        self.assertNotEqual(self.ask(shot), before)
        self.assertEqual(self.browser.log(), [])

    def test_a_finding_is_shown_on_the_map(self):
        self.browser.media(prefers_reduced_motion="reduce")  # no scrolling that goes on while something is clicked
        self.addCleanup(self.browser.media)
        self.opened()
        rows = self.browser.driver.find_elements(BY, "tr[data-pin]")
        self.assertGreater(len(rows), 2)
        for row in rows:
            code = self.browser.js("return arguments[0].cells[1].textContent", row)
            self.browser.js("arguments[0].click()", row)
            pin = self.ask("return report.facts.pins[report.chosen]")
            self.assertEqual(pin["name"], code)
            seen = self.ask("return map.seen()")
            self.assertTrue(seen[0] <= pin["at"][0] <= seen[2] and seen[1] <= -pin["at"][1] <= seen[3])
        # And the other way: a click on its mark tells of it.
        p = self.ask("map.whole(); map.paint(); const q = report.facts.pins.find((x) => x.name === 'spike'); return map.px(q.at[0], -q.at[1])")
        self.browser.js("document.querySelector('.asks').scrollIntoView()")
        self.browser.point("#map .above", p["x"], p["y"]).click().perform()
        self.assertIn("spike", self.browser.text("#answer"))

    def test_the_graph_tells_its_values_and_marks_the_map(self):
        self.opened()
        self.browser.js("document.querySelector('.line .graph').scrollIntoView({block: 'center'})")
        self.browser.point(".line .graph", 500, 80).perform()
        marked = self.ask("return report.marked")
        self.assertIsNotNone(marked)
        self.assertIn(f"{marked['distance']:.2f}", self.browser.js("return document.querySelector('.graph .cursor text').textContent"))
        # As the section that the study wrote.
        import csv

        rows = list(csv.DictReader(open(self.out("bridge.csv"))))
        near = min(rows, key=lambda r: abs(float(r["distance"]) - marked["distance"]))
        self.assertAlmostEqual(float(near["value"]), marked["value"], delta=0.002)

    def test_on_paper_the_pictures_stay_and_the_map_goes(self):
        self.opened()
        self.browser.media("print")
        self.addCleanup(self.browser.media)
        self.assertEqual(self.browser.js("return getComputedStyle(document.querySelector('.asks')).display"), "none")
        self.assertGreater(self.browser.js("return [...document.images].filter((i) => i.naturalWidth > 600 && i.getBoundingClientRect().width > 200).length"), 5)

    def test_without_scripts_it_is_the_page_it_was(self):
        plain = Browser(scripts=False)
        self.addCleanup(plain.quit)
        plain.driver.get("file://" + self.out("report.html"))
        text = plain.driver.find_element(BY, "body").text
        for word in ("Findings in the surface", "Accuracy", "Sources", "stripe", "A footbridge over Kessa Inlet"):
            self.assertIn(word, text)
        self.assertNotIn("being read", text)
        links = [a.get_attribute("href") for a in plain.driver.find_elements(BY, ".lead a")]
        self.assertEqual([os.path.basename(a) for a in links], ["view.html", "coverage.html"])

    def test_narrow_and_dark_nothing_stands_over(self):
        for name, ready in (("report.html", "report"), ("view.html", "scene"), ("coverage.html", "page")):
            self.opened(name)
            for width in (400, 1280):
                self.browser.size(width, 800)
                self.browser.js_later("setTimeout(arguments[0], 150)")
                self.assertLessEqual(self.browser.js("return document.documentElement.scrollWidth"), width, (name, width))
            self.browser.media(prefers_color_scheme="dark")
            dark = self.browser.js("return getComputedStyle(document.body).backgroundColor")
            self.browser.media(prefers_color_scheme="light")
            self.assertNotEqual(self.browser.js("return getComputedStyle(document.body).backgroundColor"), dark)
            self.browser.media()
            self.assertTrue(self.browser.js("return window.katoptra[arguments[0]] !== undefined", ready))

    def test_a_report_without_its_end_says_so_and_keeps_its_words(self):
        text = open(self.out("report.html")).read()
        with open(self.path("cut.html"), "w") as f:
            f.write(text[:-5000])
        self.browser.open(self.path("cut.html"))
        self.assertIn("not whole", self.browser.text("#saying"))
        self.assertIn("Findings in the surface", self.browser.text("body"))


if __name__ == "__main__":
    main()

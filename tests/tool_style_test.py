"""Maps with a style: what stands around them, what is said of a bad style, and styles in studies."""
import itertools
import json
import os
import re
import shutil
import subprocess

from tool import DEMO, ToolTest, main


def words_of(pdf):
    """(page, word, box) of a PDF's words, and the size of each page."""
    text = subprocess.run(["pdftotext", "-bbox", pdf, "-"], capture_output=True, text=True, check=True).stdout
    words, pages = [], []
    for line in text.splitlines():
        if page := re.search(r'<page width="([\d.]+)" height="([\d.]+)"', line):
            pages.append((float(page[1]), float(page[2])))
        if word := re.search(r'<word xMin="([-\d.]+)" yMin="([-\d.]+)" xMax="([-\d.]+)" yMax="([-\d.]+)">(.*?)</word>', line):
            words.append((len(pages) - 1, word[5], tuple(float(word[i]) for i in range(1, 5))))
    return words, pages


class Styles(ToolTest):
    def setUp(self):
        super().setUp()
        self.tile = os.path.join(DEMO, "ground-2022", "sheet_b2.tif")
        self.style = os.path.join(DEMO, "harbour.toml")

    def write(self, name, text):
        with open(self.path(name), "w") as f:
            f.write(text)
        return name

    def test_words_never_collide_nor_leave_the_page(self):
        long = "the land office of the island, the harbour board and everybody else who ever measured here " * 3
        for i, page in enumerate((["--page", "A4"], ["--page", "A3-portrait", "--scale", "1:1000"], ["--width", "700"], ["--width", "2400"],
                                  ["--page", "A4", "--scale", "1:2000", "--classes", "0,5,10,20,40", "--spots", "60m"])):
            out = self.path(f"m{i}.pdf")
            self.run_tool("map", self.tile, "--style", self.style, "--sources", long, "--date", "2026-11-29", *page, "-o", out)
            words, pages = words_of(out)
            text = " ".join(w for _, w, _ in words)
            # The style says nothing of those two.
            self.assertIn("Sources: the land office", text)
            self.assertIn("2026-11-29", text)
            self.assertIn("contours of 2014", text)
            for number, word, (x0, y0, x1, y1) in words:
                wide, high = pages[number]
                self.assertTrue(x0 >= 0 and y0 >= 0 and x1 <= wide and y1 <= high, f"{word} leaves page {number}: {page}")
            for (p, a, box), (q, b, other) in itertools.combinations(words, 2):
                # Boxes of letters reach beyond their ink.
                across = min(box[2], other[2]) - max(box[0], other[0])
                down = min(box[3], other[3]) - max(box[1], other[1])
                self.assertFalse(p == q and across > 0.5 and down > 0.45 * min(box[3] - box[1], other[3] - other[1]), f"{a} and {b}: {page}")

    def test_options_draw_what_a_style_draws(self):
        self.write("same.toml", "\n".join([
            '[[layer]]\nkind = "land"\nshore = "2m"\nlight = "sky"', '[[layer]]\nkind = "contours"\ninterval = "10m"',
            f'[[layer]]\nkind = "waypoints"\nfile = "{DEMO}/control.csv"\nheights = true']))
        self.run_tool("map", self.tile, "--style", "same.toml", "-o", "a.png")
        self.run_tool("map", self.tile, "--shore", "2m", "--light", "sky", "--contours", "10m", "--waypoints", f"{DEMO}/control.csv", "-o", "b.png")
        with open(self.path("a.png"), "rb") as a, open(self.path("b.png"), "rb") as b:
            first, second = a.read(), b.read()
        # The legend has the interval as it was written.
        self.assertLess(abs(len(first) - len(second)), 2000)

    def test_what_is_wrong_is_one_line_and_leaves_nothing(self):
        self.write("unknown.toml", '[[layer]]\nkind = "contours"\ninterwal = "5m"\n')
        self.write("gone.toml", '[[layer]]\nkind = "lines"\nfile = "nowhere.geojson"\n')
        self.run_tool("slope", self.tile, "-o", "slope.tif")
        for status, said, *words in ((3, "unknown.toml line 3: 'interwal'", self.tile, "--style", "unknown.toml"),
                                     (3, "nowhere.geojson", self.tile, "--style", "gone.toml"),
                                     (2, "hillshade, sky or none", self.tile, "--light", "moon"),
                                     (4, "no shore", "slope.tif", "--shore", "1m"),
                                     (2, "interval of 5m", self.tile, "--reference", self.tile),
                                     (4, "does not say", self.tile, "--backdrop", self.bare()),
                                     ((2, 3, 4), "shift", self.tile, "--contours", "5m", "--reference", f"{DEMO}/coast-2014/coast.tif"),
                                     (2, "coordinate reference system", self.tile, "--graticule", "nowhere")):
            done = self.run_tool("map", *words, "-o", "bad.png", status=status if isinstance(status, tuple) else (2, 3, 4))
            self.assertIn(said, done.stderr)
            self.assertEqual(done.stderr.strip().count("\n"), 0, done.stderr)
            self.assertFalse(os.path.exists(self.path("bad.png")))

    def test_what_a_command_says_holds_against_its_style(self):
        self.write("own.toml", 'title = "of the style"\nsources = "of the style"\n[[layer]]\nkind = "land"\nshore = "30m"\n')
        make = lambda *more: (self.run_tool("map", self.tile, "--page", "A5", *more, "-o", "m.pdf", "--overwrite"), " ".join(w for _, w, _ in words_of(self.path("m.pdf"))[0]))[1]
        self.assertEqual(make("--style", "own.toml").count("of the style"), 2)
        self.assertEqual(make("--style", "own.toml", "--title", "mine").count("of the style"), 1)
        self.run_tool("map", self.tile, "--style", "own.toml", "--title", "a", "--sources", "b", "-o", "style.png")
        self.run_tool("map", self.tile, "--style", "own.toml", "--title", "a", "--sources", "b", "--shore", "0m", "-o", "zero.png")
        self.run_tool("map", self.tile, "--title", "a", "--sources", "b", "-o", "plain.png")
        read = lambda name: open(self.path(name), "rb").read()
        self.assertNotEqual(read("style.png"), read("plain.png"))
        self.assertEqual(read("zero.png"), read("plain.png"))

    def test_nothing_is_laid_where_it_does_not_lie(self):
        """Of a map and what is laid on it, one has a CRS and the other none: it is refused. Neither has one: it is drawn."""
        with open(self.path("lost.asc"), "w") as f:
            f.write("ncols 40\nnrows 30\nxllcorner 0\nyllcorner 0\ncellsize 10\n")
            for r in range(30):
                f.write(" ".join(f"{50 + r + c * c / 40:.2f}" for c in range(40)) + "\n")
        self.write("light.toml", '[[layer]]\nkind = "land"\nlight = "none"\n[[layer]]\nkind = "light"\n')
        self.write("lines.geojson", '{"type":"FeatureCollection","features":[{"type":"Feature","properties":{},"geometry":{"type":"LineString","coordinates":[[-30.99,-37.55],[-30.98,-37.55]]}}]}')
        self.write("lines.toml", '[[layer]]\nkind = "lines"\nfile = "lines.geojson"\n')
        self.run_tool("map", "lost.asc", "-o", "plain.png")
        for words in (["--style", "light.toml"], ["--backdrop", "lost.asc"], ["--reference", "lost.asc", "--contours", "5m"], ["--inset", "lost.asc"]):
            self.run_tool("map", "lost.asc", *words, "-o", "m.png", "--overwrite")
        self.run_tool("map", "lost.asc", "--style", "light.toml", "-o", "light.png")
        self.assertNotEqual(open(self.path("light.png"), "rb").read(), open(self.path("plain.png"), "rb").read())
        for words in (["--backdrop", self.tile], ["--reference", self.tile, "--contours", "5m"], ["--inset", self.tile], ["--style", "lines.toml"]):
            said = self.run_tool("map", "lost.asc", *words, "-o", "bad.png", status=3).stderr
            self.assertIn("CRS", said)
        for words in (["--backdrop", "lost.asc"], ["--reference", "lost.asc", "--contours", "5m"], ["--inset", "lost.asc"]):
            said = self.run_tool("map", self.tile, *words, "-o", "bad.png", status=3).stderr
            self.assertIn("CRS", said)
        self.assertFalse(os.path.exists(self.path("bad.png")))

    def test_no_fonts_no_map(self):
        self.write("fonts.conf", '<?xml version="1.0"?><!DOCTYPE fontconfig SYSTEM "fonts.dtd"><fontconfig><dir>/nowhere</dir></fontconfig>')
        done = self.run_tool("map", self.tile, "-o", "m.png", status=(3, 4), env=dict(self.environment, FONTCONFIG_FILE=self.path("fonts.conf")))
        self.assertIn("fonts-dejavu-core", done.stderr)
        self.assertFalse(os.path.exists(self.path("m.png")))

    def bare(self):
        self.run_tool("picture", self.tile, "--width", "60", "-o", "bare.png", "--overwrite")
        os.remove(self.path("bare.prj"))
        return "bare.png"

    def test_a_study_has_styles_and_knows_what_they_name(self):
        data = self.path("data")
        shutil.copytree(DEMO, data, ignore=shutil.ignore_patterns("lidar-2022"))
        text = open(os.path.join(data, "study.toml")).read()
        head = text[:text.index("[[product]]")]
        head = re.sub(r"\[\[points\]\][^\[]*", "", head)
        product = '[[product]]\nkind = "map"\nfile = "m.png"\nstyle = "harbour.toml"\nclasses = "natural:5"\nlight = "sky"\n'
        with open(os.path.join(data, "study.toml"), "w") as f:
            f.write(head + product)
        self.run_tool("study", os.path.join(data, "study.toml"), "-o", "run")
        record = json.load(open(self.path("run/run.json")))
        names = {os.path.basename(i["path"]) for i in record["inputs"]}
        self.assertLessEqual({"harbour.toml", "control.csv", "ponds.geojson", "transect.geojson", "coast.tif"}, names)
        # A style that is wrong, or names what is not there, is told before anything is made.
        for old, new, said in (("[[layer]]", "[[layers]]", "harbour.toml line"), ("control.csv", "kontrol.csv", "kontrol.csv")):
            style = open(self.style).read()
            with open(os.path.join(data, "harbour.toml"), "w") as f:
                f.write(style.replace(old, new))
            done = self.run_tool("study", os.path.join(data, "study.toml"), "-o", "bad", status=(2, 3, 4))
            self.assertIn(said, done.stderr)
            self.assertFalse(os.path.exists(self.path("bad/surface.tif")))


if __name__ == "__main__":
    main()

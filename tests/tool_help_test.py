"""The help: every verb in the order of the work, with groups, defaults and an example that runs; and words for people."""
import os
import re
import shutil
import unittest

from tool import DEMO, ToolTest

GROUPS = ["What it takes:", "What it does:", "What the input does not say:", "Output:", "Running:"]
SHEET = os.path.join(DEMO, "ground-2022", "sheet_b2.tif")


class Help(ToolTest):
    def verbs(self):
        text = self.run_tool("--help").stdout
        # Verbs stand under the stages of the work.
        stages = re.findall(r"^(\S.*):$", text, re.M)
        self.assertEqual(stages[1:], ["Find and fetch", "Make a surface", "Trust it", "What it is for", "Where water goes", "All at once"])
        return re.findall(r"^  ([a-z][a-z-]*) ", text, re.M)

    def test_every_verb_tells_what_it_does_first_and_what_all_share_last(self):
        verbs = self.verbs()
        self.assertGreater(len(verbs), 20)
        for verb in verbs:
            with self.subTest(verb=verb):
                text = self.run_tool(verb, "--help").stdout
                lines = text.splitlines()
                groups = [line for line in lines if line in GROUPS]
                self.assertEqual(groups, [g for g in GROUPS if g in groups], "in this order")
                self.assertTrue(lines[-1].startswith(f"Example: katoptra {verb}") or verb == "order", lines[-1])
                self.assertLessEqual(max(map(len, lines)), 110, max(lines, key=len))

    def test_defaults_are_shown(self):
        for verb, option, default in (("hillshade", "--azimuth", "315deg"), ("hillshade", "--exaggerate", "1"), ("slope", "--as", "degrees"), ("contours", "--index", "5"), ("map", "--width", "1600"), ("map", "--exaggerate", "1.5"), ("clip", "--codec", "auto"), ("clip", "--memory", "512M")):
            with self.subTest(verb=verb, option=option):
                text = self.run_tool(verb, "--help").stdout
                own = text[text.index("\n  " + option) :].split("\n  -")[1]
                self.assertIn(f"[{default}]", own)

    def test_the_examples_run(self):
        data = self.path("data")
        shutil.copytree(DEMO, data)
        self.folder = data
        for verb in self.verbs():
            if verb in ("demo", "serve"):  # the one takes long and has a test of its own, the other never ends
                continue
            with self.subTest(verb=verb):
                example = self.run_tool(verb, "--help").stdout.splitlines()[-1]
                self.run_tool(*example.removeprefix("Example: katoptra ").split())


class WordsForPeople(ToolTest):
    def test_an_interval_is_told_as_it_was_given(self):
        text = self.run_tool("contours", SHEET, "--interval", "10ft", "-o", "a.gpkg").stdout
        self.assertIn("10 ft (3.048 m)", text)
        text = self.run_tool("contours", SHEET, "--interval", "5m", "-o", "b.gpkg").stdout
        self.assertIn("5 m, an index line", text)

    def test_a_slope_has_no_interval_in_metres(self):
        self.run_tool("slope", SHEET, "-o", "s.tif")
        self.assertIn("degree", self.refused("contours", "s.tif", "--interval", "5m", "-o", "a.gpkg", status=2))
        text = self.run_tool("contours", "s.tif", "--interval", "5", "-o", "a.gpkg").stdout
        self.assertIn("5 degree, an index line", text)
        self.assertNotIn("5 m", text)

    def test_bare_numbers_that_were_taken_for_a_unit_are_said(self):
        out = self.run_tool("hillshade", SHEET, "--azimuth", "300", "-o", "h.tif").stdout
        self.assertIn("300 was taken for 300 degrees", out)
        west, north = self.corner()
        out = self.run_tool("section", SHEET, "--from", f"{west + 20},{north - 20}", "--bearing", "120", "--length", "60m", "-o", "s.csv").stdout
        self.assertIn("120 was taken for 120 degrees", out)
        out = self.run_tool("clip", SHEET, "--area", f"circle:{west + 60},{north - 60},30@EPSG:32725", "-o", "c.tif").stdout
        self.assertIn("the radius was taken for 30 m", out)

    def corner(self):
        west, _, _, north = self.run_json("look", SHEET, "--quick")[0]["bounds"]
        return west, north

    def test_a_map_draws_a_line_by_its_bearing(self):
        west, north = self.corner()
        line = ["--from", f"{west + 20},{north - 20}", "--bearing", "120deg", "--length", "100m"]
        plain = self.run_tool("map", SHEET, "-o", "a.svg")
        self.run_tool("map", SHEET, *line, "-o", "b.svg")
        self.assertGreater(os.path.getsize(self.path("b.svg")), os.path.getsize(self.path("a.svg")))
        self.assertIn("--bearing", self.refused("map", SHEET, "--from", f"{west + 20},{north - 20}", "-o", "c.svg", status=2))
        self.assertIn("outside", self.refused("map", SHEET, "--from", "0,0", "--to", "10,10", "-o", "c.svg", status=2))


if __name__ == "__main__":
    unittest.main()

"""What README and docs show is what there is."""
import os
import re
import socket
import subprocess
import unittest

from tool import SOURCE, TOOL, ToolTest, main


def text_of(*parts):
    with open(os.path.join(SOURCE, *parts)) as f:
        return f.read()


class Readme(ToolTest):
    def test_the_library_example_is_the_compiled_one(self):
        readme, code = text_of("README.md"), text_of("examples", "library.cpp")
        self.assertIn(code[code.index('#include "katoptra/check') :].strip(), readme)
        self.assertIn(text_of("examples", "library.expected").strip(), readme)

    def test_links_lead_somewhere_and_no_screenshot_is_left_over(self):
        linked = set()
        for page in ["README.md", "CONTRIBUTING.md", "bench/README.md"] + ["docs/" + p for p in os.listdir(os.path.join(SOURCE, "docs")) if p.endswith(".md")]:
            for target in re.findall(r"\]\(([^)#]+)\)", text_of(page)):
                path = os.path.normpath(os.path.join(os.path.dirname(page), target))
                self.assertTrue(os.path.exists(os.path.join(SOURCE, path)), f"{page}: {target}")
                linked.add(path)
        shots = {"docs/screenshots/" + s for s in os.listdir(os.path.join(SOURCE, "docs", "screenshots"))}
        self.assertEqual(shots - linked, set())
        self.assertLess(len(shots), 20)

    def test_every_verb_is_told_of_and_every_told_verb_has_help(self):
        readme = text_of("README.md")
        listed = readme[readme.index("## The command line") : readme.index("each with `--help`")]
        told = set(re.findall(r"`([\w-]+)`", listed))
        overview = self.run_tool("--help").stdout
        verbs = set(re.findall(r"^  ([\w-]+)  ", overview[overview.index("Find and fetch:") :], re.M))
        self.assertEqual(told, verbs)
        for verb in verbs:
            self.assertIn("Usage: katoptra " + verb, self.run_tool(verb, "--help").stdout)

    def test_check_codes_are_documented(self):
        room = os.path.join(SOURCE, "src", "check")
        files = [os.path.join(folder, f) for folder, _, names in os.walk(room) for f in names if not f.endswith("_test.cpp")]
        code = text_of("cli", "check_verb.cpp") + "".join(text_of(f) for f in files)
        codes = set(re.findall(r'(?:add|finding_of)\(\s*"([a-z-]+)"', code)) | set(re.findall(r'\.code = "([a-z-]+)"', code))
        self.assertGreater(len(codes), 25)
        page = text_of("docs", "check.md")
        for c in codes:
            self.assertIn(f"`{c}`", page)

    def test_thresholds_are_documented(self):
        """The table of docs/check.md is what the tool prints for each profile."""
        rows = {m[0]: m[1:] for m in re.findall(r"^\| `([a-z-]+)` \|[^|]*\| ([\d.]+) \| ([\d.]+) \| ([\d.]+) \|", text_of("docs", "check.md"), re.M)}
        for i, profile in enumerate(("quick", "survey", "navigation")):
            printed = [line.split()[:2] for line in self.run_tool("check", "--thresholds", "--profile", profile).stdout.splitlines()[1:]]
            self.assertEqual({name: value for name, value in printed}, {name: values[i] for name, values in rows.items()})

    def test_all_commands_of_the_readme_run_one_after_the_other(self):
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            port = free.getsockname()[1]
        lines = [line[2:] for block in re.findall(r"```console\n(.*?)```", text_of("README.md"), re.S) for line in block.splitlines() if line.startswith("$ ")]
        self.assertGreater(len(lines), 25)
        script = ["set -eu", "trap 'kill $(jobs -p)' EXIT"]
        for line in lines:
            line = line.replace("8080", str(port))
            script.append(f"echo {len(script)}: running")
            if line.endswith("&"):
                script += [line[:-1] + ">served.log 2>&1 &", f"until (: </dev/tcp/127.0.0.1/{port}) 2>/dev/null; do sleep 0.1; done"]
            elif line.startswith("katoptra check"):
                # Exit status 1: it finds what was planted.
                script.append(line + " || test $? -eq 1")
            else:
                script.append(line)
        os.makedirs(self.path("bin"))
        os.symlink(TOOL, self.path("bin/katoptra"))
        environment = dict(self.environment, PATH=self.path("bin") + ":" + os.environ["PATH"])
        done = subprocess.run(["bash", "-c", "\n".join(script)], capture_output=True, text=True, cwd=self.folder, env=environment, timeout=400)
        self.assertEqual(done.returncode, 0, done.stdout[-3000:] + done.stderr[-3000:])
        # The table of sample is on stdout, so what it says of the residuals is not.
        self.assertRegex(done.stderr, r"\A(residuals .*\n)*\Z")
        for made in set(re.findall(r"(?:-o|--map|--rose|--picture) (\S+)", "\n".join(lines))):
            # Of sheets their index, of a solid in pieces the first.
            if os.path.exists(self.path("marrowick/" + re.sub(r"\.tif$", ".sheets.geojson", made))):
                made = re.sub(r"\.tif$", ".sheets.geojson", made)
            if not os.path.exists(self.path("marrowick/" + made)):
                made = re.sub(r"(\.\w+)$", r"-A1\1", made)
            self.assertGreater(os.path.getsize(self.path("marrowick/" + made)), 100, made)


if __name__ == "__main__":
    main()

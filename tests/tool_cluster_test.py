"""The tool on several processes: the same bytes as by one, whoever helps, drops out or dies."""
import os
import re
import signal
import subprocess
import time

from tool import DEMO, TOOL, ToolTest, main

CLUSTER_TOOL = TOOL + "-mpi"
SHEETS = [os.path.join(DEMO, "ground-2022", f"sheet_{c}{n}.tif") for c in "ab" for n in (1, 2)]
MPIRUN = ["mpirun", "--quiet", "--oversubscribe", "--bind-to", "none"]


class Cluster(ToolTest):
    def setUp(self):
        super().setUp()
        # Tests may run as any user, in a container, too.
        self.environment.update(OMPI_ALLOW_RUN_AS_ROOT="1", OMPI_ALLOW_RUN_AS_ROOT_CONFIRM="1")

    def run_ranks(self, *words, ranks=3, status=0):
        done = subprocess.run([*MPIRUN, "-n", str(ranks), CLUSTER_TOOL, *map(str, words)], capture_output=True, text=True, cwd=self.folder, timeout=240, env=self.environment)
        self.assertEqual(done.returncode, status, f"{words}\n{done.stdout}\n{done.stderr}")
        return done

    def read(self, name):
        with open(self.path(name), "rb") as f:
            return f.read()

    def expect_same(self, *words, **options):
        """Both ways into files of the same names; what is said is the same, too. How many files."""
        before = self.files()
        alone = self.run_tool(*words)
        made = {}
        for path in set(self.files()) - set(before):
            with open(path, "rb") as f:
                made[path] = f.read()
            os.unlink(path)
        shared = self.run_ranks(*words, **options)
        self.assertEqual(sorted(set(self.files()) - set(before)), sorted(made))
        for path, content in made.items():
            with open(path, "rb") as f:
                self.assertEqual(f.read(), content, path)
            os.unlink(path)
        self.assertEqual(shared.stdout, alone.stdout)
        self.assertEqual(shared.stderr, alone.stderr)
        return len(made)

    def test_one_step_after_another(self):
        self.assertEqual(self.expect_same("mosaic", *SHEETS, "--uncertainty", "0.05m", "-o", "out.tif"), 3)
        self.run_tool("mosaic", *SHEETS, "-o", "ground.tif")
        for words, ranks in (
            (("fill", "ground.tif", "-o", "out.tif"), 2),
            (("reproject", "ground.tif", "--crs", "EPSG:32724", "--cell", "0.7", "-o", "out.tif"), 3),
            (("hillshade", "ground.tif", "-o", "out.tif", "--threads", "1"), 4),
            (("flow", "ground.tif", "--as", "cells", "-o", "out.tif"), 3),
        ):
            self.assertGreater(self.expect_same(*words, ranks=ranks), 0)
        lidar = [os.path.join(DEMO, "lidar-2022", f"lidar_{c}.laz") for c in ("nw", "ne")]
        self.assertGreater(self.expect_same("grid", *lidar, "--method", "tin", "median", "--cell", "2m", "-o", "out.tif", ranks=3), 1)
        self.assertGreater(self.expect_same("grid", lidar[0], "--find-ground", "--anew", "--cell", "2m", "-o", "out.tif", "--threads", "1", ranks=2), 0)
        self.assertEqual(self.expect_same("derive", "ground.tif", "slope", "curvature", "-o", "products"), 2)

    def test_all_take_part(self):
        self.environment["KATOPTRA_TELL_RANKS"] = "1"
        told = self.run_ranks("reproject", SHEETS[0], "--crs", "EPSG:32724", "--cell", "0.1", "-o", "out.tif").stderr
        first, others = map(int, re.search(r"3 processes: (\d+) results made by the first, (\d+) by others", told).groups())
        made = self.run_json("look", "out.tif")[0]
        # Two by two tiles are made together.
        self.assertGreaterEqual(first + others, -(-made["cols"] // 1024) * -(-made["rows"] // 1024))
        self.assertGreater(others, 0)
        self.assertNotIn("left", told)
        # Who made tiles writes them, too.
        sent, written = re.search(r"\((\d+)\.\d MiB sent\); (\d+)\.\d MiB written by others", told).groups()
        self.assertGreater(int(written), 3 * int(sent))
        self.run_tool("reproject", SHEETS[0], "--crs", "EPSG:32724", "--cell", "0.1", "-o", "alone.tif")
        self.assertEqual(self.read("out.tif"), self.read("alone.tif"))
        # Who makes what the others have made already finds that its points are gone, and goes on all the same.
        told = self.run_ranks("grid", os.path.join(DEMO, "lidar-2022", "lidar_nw.laz"), "--find-ground", "--anew", "--cell", "2m", "-o", "points.tif", "--threads", "1").stderr
        self.assertNotIn("left", told)
        # With little memory nobody keeps many tiles until they have a place.
        told = self.run_ranks("reproject", SHEETS[0], "--crs", "EPSG:32724", "--cell", "0.1", "-o", "out.tif", "--overwrite", "--memory", "16M").stderr
        self.assertGreater(int(re.search(r"(\d+) by others", told)[1]), 0)
        self.assertNotIn("left", told)
        self.assertEqual(self.read("out.tif"), self.read("alone.tif"))

    def test_on_one_machine_no_network_is_looked_for(self):
        def opened(framework):
            self.environment[f"OMPI_MCA_{framework}_base_verbose"] = "100"
            told = self.run_ranks("--version", ranks=2).stderr
            return set(re.findall(r"found loaded component (\w+)", told))

        self.assertEqual(opened("btl"), {"self", "tcp", "vader"})
        # Who asks for another way gets it.
        self.environment.update(OMPI_MCA_btl="self,tcp")
        self.assertEqual(opened("btl"), {"self", "tcp"})

    def test_a_look_at_the_whole_is_shared(self):
        self.environment["KATOPTRA_TELL_RANKS"] = "1"
        self.run_tool("reproject", SHEETS[0], "--crs", "EPSG:32724", "--cell", "0.1", "-o", "ground.tif")
        done = self.run_ranks("statistics", "ground.tif", "--threads", "1")
        self.assertEqual(done.stdout, self.run_tool("statistics", "ground.tif").stdout)
        first, others = map(int, re.search(r"(\d+) results made by the first, (\d+) by others", done.stderr).groups())
        self.assertGreater(others, 0, done.stderr)
        self.assertNotIn("left", done.stderr)
        # Voids are looked for by all, and known to all.
        self.run_tool("fill", "ground.tif", "-o", "alone.tif", "--largest", "20m")
        done = self.run_ranks("fill", "ground.tif", "-o", "filled.tif", "--largest", "20m", "--threads", "1")
        self.assertNotIn("left", done.stderr)
        self.assertEqual(self.read("filled.tif"), self.read("alone.tif"))

    def test_what_is_not_shared_is_done_once(self):
        ground = SHEETS[0]
        self.assertEqual(self.run_ranks("check", ground, status=1).stdout, self.run_tool("check", ground, status=1).stdout)
        self.run_ranks("clip", ground, "-o", "out.nc")
        self.run_tool("clip", ground, "-o", "alone.nc")
        self.assertEqual(self.files(), [self.path("alone.nc"), self.path("out.nc")])
        self.run_tool("compare", "out.nc", "alone.nc")

    def test_one_error(self):
        for words, status in ((("mosaic", "nowhere.tif", "-o", "out.tif"), 4), (("mosaic", SHEETS[0], "-o"), 2)):
            done = self.run_ranks(*words, status=status)
            self.assertEqual(done.stdout, "")
            self.assertEqual(len([line for line in done.stderr.splitlines() if line.startswith("katoptra")]), 1, done.stderr)
            self.assertEqual(self.files(), [])

    def test_who_lacks_a_file_drops_out(self):
        self.environment["KATOPTRA_TELL_RANKS"] = "1"
        os.mkdir(self.path("elsewhere"))
        self.run_tool("clip", SHEETS[0], "-o", "ground.tif")
        self.run_tool("slope", "ground.tif", "-o", "alone.tif")
        words = [CLUSTER_TOOL, "slope", "ground.tif", "-o", "out.tif"]
        done = subprocess.run([*MPIRUN, "-n", "2", *words, ":", "-n", "1", "--wdir", self.path("elsewhere"), *words], capture_output=True, text=True, cwd=self.folder, timeout=240, env=self.environment)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("process 2 left", done.stderr)
        self.assertEqual(self.read("out.tif"), self.read("alone.tif"))
        self.assertEqual(os.listdir(self.path("elsewhere")), [])

    def test_what_one_cannot_write_is_an_error(self):
        words = [CLUSTER_TOOL, "reproject", SHEETS[0], "--crs", "EPSG:32724", "--cell", "0.1", "-o", "out.tif", "--threads", "1"]
        full = "trap '' XFSZ; ulimit -f 100; exec \"$@\""
        done = subprocess.run([*MPIRUN, "-n", "1", *words, ":", "-n", "1", "sh", "-c", full, "sh", *words], capture_output=True, text=True, cwd=self.folder, timeout=240, env=self.environment)
        self.assertEqual(done.returncode, 4, done.stderr)
        self.assertRegex(done.stderr, r"(?m)^katoptra: .*process 1.*cannot be written")
        self.assertEqual(self.files(), [])

    def test_who_fails_in_the_middle_drops_out(self):
        import tifffile

        self.environment["KATOPTRA_TELL_RANKS"] = "1"
        self.run_tool("reproject", SHEETS[0], "--crs", "EPSG:32724", "--cell", "0.12", "-o", "ground.tif")
        self.run_tool("slope", "ground.tif", "-o", "alone.tif")
        os.mkdir(self.path("elsewhere"))
        # Whole only around the tiles that a writer looks at before it begins: a few, spread over the surface.
        damaged = bytearray(self.read("ground.tif"))
        with tifffile.TiffFile(self.path("ground.tif")) as tif:
            page = tif.pages[0]
            across, n = -(-page.imagewidth // 512), len(page.dataoffsets)
            looked_at = [divmod((2 * k + 1) * n // 8, across) for k in range(4)]
            for i, (at, size) in enumerate(zip(page.dataoffsets, page.databytecounts)):
                row, col = divmod(i, across)
                if not any(abs(row - r) < 2 and abs(col - c) < 2 for r, c in looked_at):
                    damaged[at : at + size] = bytes(size)
        with open(self.path("elsewhere/ground.tif"), "wb") as f:
            f.write(damaged)
        words = [CLUSTER_TOOL, "slope", "ground.tif", "-o", "out.tif", "--threads", "1"]
        done = subprocess.run([*MPIRUN, "-n", "1", *words, ":", "-n", "2", "--wdir", self.path("elsewhere"), *words], capture_output=True, text=True, cwd=self.folder, timeout=240, env=self.environment)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertRegex(done.stderr, "process [12] left: .*ground.tif")
        self.assertEqual(self.read("out.tif"), self.read("alone.tif"))
        self.assertEqual(os.listdir(self.path("elsewhere")), ["ground.tif"])

    def test_sheets_are_made_by_all(self):
        self.environment["KATOPTRA_TELL_RANKS"] = "1"
        words = ["reproject", SHEETS[0], "--crs", "EPSG:32724", "--cell", "0.2", "--sheets", "60m", "--threads", "1"]
        self.run_tool(*words, "-o", "one/g.tif")
        told = self.run_ranks(*words, "-o", "many/g.tif").stderr
        # Nothing travels but who has made what.
        self.assertRegex(told, r"[1-9]\d* by others \(\d+ B sent\)")
        one, many = (sorted(os.path.relpath(f, self.path(d)) for f in self.files() if f.startswith(self.path(d))) for d in ("one", "many"))
        self.assertEqual(one, many)
        for name in one:
            self.assertEqual(self.read("many/" + name), self.read("one/" + name), name)
        # A disk that the others do not share: what they made there is made again here.
        os.mkdir(self.path("other"))
        apart = [CLUSTER_TOOL, *words, "-o", "apart/g.tif"]
        done = subprocess.run([*MPIRUN, "-n", "1", *apart, ":", "-n", "2", "--wdir", self.path("other"), *apart], capture_output=True, text=True, cwd=self.folder, timeout=240, env=self.environment)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("made by other processes on a disk that is not this one", done.stdout)
        for name in one:
            self.assertEqual(self.read("apart/" + name), self.read("one/" + name), name)

    def test_sheets_of_a_job_that_died_are_kept(self):
        words = ["reproject", SHEETS[0], "--crs", "EPSG:32724", "--cell", "0.1", "--sheets", "40m", "--threads", "1", "-o", "s/g.tif"]
        job = subprocess.Popen([*MPIRUN, "-n", "3", CLUSTER_TOOL, *words], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, cwd=self.folder, env=self.environment)

        def whole():
            return {f for f in self.files() if f.endswith(".tif") and "/." not in f and ".lineage." not in f}

        for _ in range(1200):
            children = subprocess.run(["pgrep", "-P", str(job.pid), "-f", "katoptra-mpi"], capture_output=True, text=True).stdout.split()
            if len(children) == 3 and len(whole()) >= 4:
                break
            time.sleep(0.02)
        os.kill(int(children[-1]), signal.SIGKILL)
        job.communicate(timeout=60)
        self.assertNotEqual(job.returncode, 0)
        before = whole()
        self.assertGreaterEqual(len(before), 4)
        done = self.run_ranks(*words)
        kept = int(re.search(r"(\d+) whole already", done.stdout).group(1))
        # But for those that had a name and no record yet, one a process.
        self.assertGreaterEqual(kept, len(before) - 3)
        self.assertIn("index", done.stdout)
        self.assertEqual([f for f in self.files() if ".part-" in f], [])

    def test_one_that_dies_ends_the_job(self):
        words = ["reproject", SHEETS[0], "--crs", "EPSG:32724", "--cell", "0.02", "-o", "out.tif"]
        job = subprocess.Popen([*MPIRUN, "-n", "3", CLUSTER_TOOL, *words], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, cwd=self.folder, env=self.environment)
        children = []
        for _ in range(600):
            children = [int(p) for p in subprocess.run(["pgrep", "-P", str(job.pid), "-f", "katoptra-mpi"], capture_output=True, text=True).stdout.split()]
            if len(children) == 3 and self.files():
                break
            time.sleep(0.05)
        self.assertEqual(len(children), 3)
        os.kill(children[-1], signal.SIGKILL)
        _, errors = job.communicate(timeout=60)
        self.assertNotEqual(job.returncode, 0)
        self.assertNotIn(self.path("out.tif"), self.files())
        # And a run again begins with a clean folder.
        self.run_ranks("slope", SHEETS[0], "-o", "out.tif")
        self.assertEqual(self.files(), [self.path("out.tif")])


if __name__ == "__main__":
    main()

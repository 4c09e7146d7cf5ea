"""Solids, read back by programs that are not ours: closed, of the size asked for, the same body in every form."""
import json
import os
import re
import struct
import subprocess
import xml.etree.ElementTree as ElementTree
import zipfile

import numpy
import tifffile

from tool import DEMO, ToolTest, main, png

TRUTH = os.path.join(DEMO, "reference", "truth.tif")
CORE = "{http://schemas.microsoft.com/3dmanufacturing/core/2015/02}"


def volume(vertices, triangles):
    p = vertices[triangles]
    return (p[:, 0] * numpy.cross(p[:, 1], p[:, 2])).sum() / 6


class Solids(ToolTest):
    def admesh(self, name):
        out = subprocess.run(["admesh", self.path(name)], capture_output=True, text=True, check=True).stdout
        number = lambda label: float(re.search(re.escape(label) + r"\s*[:=]\s*(-?[\d.]+)", out)[1])
        return out, number

    def is_whole(self, name, said):
        out, number = self.admesh(name)
        for label in ("Facets with 1 disconnected edge", "Facets with 2 disconnected edges", "Facets with 3 disconnected edges", "Degenerate facets", "Edges fixed", "Facets removed", "Facets added", "Facets reversed", "Backwards edges", "Normals fixed"):
            self.assertEqual(number(label), 0, out)
        self.assertEqual(number("Number of facets"), said["triangles"])
        for axis, size in zip("XYZ", said["size_mm"]):
            self.assertAlmostEqual(number(f"Min {axis}"), 0, places=4)
            self.assertAlmostEqual(number(f"Max {axis}"), size, places=3)
        return number("Volume")

    def test_whole_by_another_reader(self):
        said = self.run_json("solid", TRUTH, "--bed", "200mmx150mm", "--exaggerate", "2", "--base", "4mm", "-o", "inlet.stl")
        self.assertGreater(self.is_whole("inlet.stl", said), 0)
        self.assertAlmostEqual(said["size_mm"][1], 150, places=3)
        self.assertLess(said["size_mm"][0], 200)
        self.assertLess(said["triangles"], 60000)
        # Cut to a shape, and with a survey's own voids.
        for words in ((TRUTH, "--area", os.path.join(DEMO, "area.geojson")), (os.path.join(DEMO, "ground-2022", "sheet_b2.tif"),)):
            said = self.run_json("solid", *words, "--scale", "1:4000", "--water", "0m", "-o", "part.stl", "--overwrite")
            self.assertGreater(self.is_whole("part.stl", said), 0)
            self.assertEqual(said["scale"], 4000)

    def test_the_same_body_in_every_form(self):
        words = [TRUTH, "--scale", "5000", "--error", "0.3mm"]
        said = self.run_json("solid", *words, "-o", "a.stl")
        expected = self.is_whole("a.stl", said)
        self.run_tool("solid", *words, "-o", "a.obj")
        with open(self.path("a.obj")) as f:
            lines = f.read().splitlines()
        self.assertIn("millimetres", lines[0])
        v = numpy.array([l.split()[1:] for l in lines if l.startswith("v ")], float)
        t = numpy.array([l.split()[1:] for l in lines if l.startswith("f ")], int) - 1
        self.assertEqual(len(t), said["triangles"])
        self.assertAlmostEqual(volume(v, t) / expected, 1, places=5)
        self.run_tool("solid", *words, "-o", "a.3mf")
        packed = zipfile.ZipFile(self.path("a.3mf"))
        self.assertIn("3D/3dmodel.model", packed.read("_rels/.rels").decode())
        self.assertIn('Extension="model"', packed.read("[Content_Types].xml").decode())
        model = ElementTree.fromstring(packed.read("3D/3dmodel.model"))
        self.assertEqual(model.get("unit"), "millimeter")
        v3 = numpy.array([[p.get(k) for k in "xyz"] for p in model.iter(f"{CORE}vertex")], float)
        t3 = numpy.array([[p.get(f"v{k}") for k in (1, 2, 3)] for p in model.iter(f"{CORE}triangle")], int)
        numpy.testing.assert_array_equal(t3, t)
        numpy.testing.assert_allclose(v3, v, rtol=1e-6)
        self.assertEqual(model.find(f"{CORE}build/{CORE}item").get("objectid"), model.find(f"{CORE}resources/{CORE}object").get("id"))

    def test_gltf_with_its_map(self):
        said = self.run_json("solid", TRUTH, "--scale", "5000", "--error", "0.3mm", "-o", "a.glb")
        with open(self.path("a.glb"), "rb") as f:
            data = f.read()
        magic, version, length, first, kind = struct.unpack("<IIIII", data[:20])
        self.assertEqual((magic, version, length, kind), (0x46546C67, 2, len(data), 0x4E4F534A))
        j = json.loads(data[20:20 + first])
        body = data[28 + first:]
        self.assertEqual(struct.unpack("<II", data[20 + first:28 + first]), (len(body), 0x004E4942))

        def read(n):
            a = j["accessors"][n]
            view = j["bufferViews"][a["bufferView"]]
            kinds, parts = {5126: "<f4", 5125: "<u4"}, {"SCALAR": 1, "VEC2": 2, "VEC3": 3}
            return numpy.frombuffer(body, kinds[a["componentType"]], a["count"] * parts[a["type"]], view["byteOffset"]).reshape(a["count"], -1)

        parts = j["meshes"][0]["primitives"]
        v = read(parts[0]["attributes"]["POSITION"])
        numpy.testing.assert_allclose([v.min(axis=0), v.max(axis=0)], [j["accessors"][0]["min"], j["accessors"][0]["max"]])
        numpy.testing.assert_allclose(numpy.ptp(v, axis=0) * 1000, [said["size_mm"][0], said["size_mm"][2], said["size_mm"][1]], rtol=1e-4)
        t = numpy.concatenate([read(p["indices"]).reshape(-1, 3) for p in parts])
        self.assertEqual((len(t), t.max()), (said["triangles"], len(v) - 1))
        self.run_tool("solid", TRUTH, "--scale", "5000", "--error", "0.3mm", "-o", "a.stl")
        self.assertAlmostEqual(volume(v.astype(float) * 1000, t) / self.is_whole("a.stl", said), 1, places=4)
        # The picture: blue where the ground is below the sea.
        view = j["bufferViews"][j["images"][0]["bufferView"]]
        picture = png(body[view["byteOffset"]:view["byteOffset"] + view["byteLength"]])
        uv = read(parts[0]["attributes"]["TEXCOORD_0"])
        ground = numpy.unique(read(parts[0]["indices"]))
        low = v[ground][:, 1].argsort()[:50]
        for i in ground[low]:
            colour = picture[int(uv[i][1] * picture.shape[0]), int(uv[i][0] * picture.shape[1])]
            self.assertGreater(int(colour[2]), int(colour[0]), "deep water is blue")

    def test_water_is_a_body_in_every_form(self):
        words = ["solid", TRUTH, "--scale", "5000", "--error", "0.3mm", "--water", "0m", "--water-body"]
        said = self.run_json(*words, "-o", "a.stl")
        self.assertGreater(said["water"], 100)
        ground = self.is_whole("a.stl", said)
        out, number = self.admesh("a-water.stl")
        for label in ("Facets with 1 disconnected edge", "Facets with 2 disconnected edges", "Facets with 3 disconnected edges", "Degenerate facets", "Edges fixed", "Facets removed", "Facets reversed", "Backwards edges"):
            self.assertEqual(number(label), 0, out)
        self.assertEqual(number("Number of facets"), said["water"])
        water = number("Volume")
        # What the sea takes of the space above the ground, from the cells themselves.
        z = tifffile.imread(TRUTH).astype(float)
        deep = numpy.maximum(0, -z)[:-1, :-1].sum() / 5 ** 3
        self.assertAlmostEqual(water / deep, 1, delta=0.03)
        self.run_tool(*words, "-o", "a.3mf")
        model = ElementTree.fromstring(zipfile.ZipFile(self.path("a.3mf")).read("3D/3dmodel.model"))
        bodies = {}
        for body in model.iter(f"{CORE}object"):
            v = numpy.array([[p.get(k) for k in "xyz"] for p in body.iter(f"{CORE}vertex")], float)
            t = numpy.array([[p.get(f"v{k}") for k in (1, 2, 3)] for p in body.iter(f"{CORE}triangle")], int)
            if len(t):
                bodies[body.get("name")] = volume(v, t)
                self.assertEqual(set(numpy.unique(t)), set(range(len(v))))
        self.assertEqual(sorted(bodies), ["ground", "water"])
        self.assertAlmostEqual(bodies["ground"] / ground, 1, places=5)
        self.assertAlmostEqual(bodies["water"] / water, 1, places=4)
        both = model.find(f"{CORE}build/{CORE}item").get("objectid")
        parts = [c.get("objectid") for c in model.find(f".//{CORE}object[@id='{both}']/{CORE}components")]
        self.assertEqual(len(parts), 2)
        self.run_tool(*words, "-o", "a.glb")
        with open(self.path("a.glb"), "rb") as f:
            data = f.read()
        j = json.loads(data[20:20 + struct.unpack("<I", data[12:16])[0]])
        clear = [p["material"] for p in j["meshes"][0]["primitives"] if j["materials"][p["material"]].get("alphaMode") == "BLEND"]
        self.assertEqual(len(clear), 1)
        self.run_tool(*words, "-o", "a.obj")
        with open(self.path("a.obj")) as f:
            self.assertEqual([l.split()[1] for l in f if l.startswith("g ")], ["ground", "base", "water"])

    def test_pieces_fit_the_bed_and_are_all_there_or_none(self):
        words = ["solid", TRUTH, "--bed", "120mmx100mm", "--scale", "1:3000", "--tiles", "-o"]
        said = self.run_json(*words, "a.stl")
        self.assertEqual((said["across"], said["down"], len(said["tiles"])), (3, 4, 12))
        for tile in said["tiles"]:
            self.is_whole(os.path.basename(tile["file"]), tile)
            self.assertTrue(tile["size_mm"][0] <= 120 and tile["size_mm"][1] <= 100)
        # One that is there already: the others go again.
        with open(self.path("b-B2.stl"), "w") as f:
            f.write("mine")
        self.assertIn("exists already", self.refused(*words, "b.stl", status=(3, 4)))
        self.assertEqual(sorted(n for n in os.listdir(self.folder) if n.startswith("b-")), ["b-B2.stl"])
        for more, expect in ((["--scale", "1:3000"], "bed and a scale"), (["--bed", "120mmx100mm"], "bed and a scale"),
                             (["--scale", "1:3000", "--bed", "25mmx100mm"], "a fifth"), (["--scale", "1:20", "--bed", "120mmx100mm"], "tiles")):
            self.assertIn(expect, self.refused("solid", TRUTH, *more, "--tiles", "-o", "c.stl", status=(2, 3)))
        self.assertIn("--water", self.refused("solid", TRUTH, "--scale", "1:3000", "--water-body", "-o", "c.stl", status=2))
        with open(self.path("empty.asc"), "w") as f:
            f.write("ncols 40\nnrows 30\nxllcorner 0\nyllcorner 0\ncellsize 10\nNODATA_value -9\n" + ("-9 " * 40 + "\n") * 30)
        self.assertIn("no ground", self.refused("solid", "empty.asc", "--scale", "1:1000", "--bed", "120mmx100mm", "--tiles", "-o", "c.stl", status=3))

    def test_what_is_refused(self):
        for words, expect, status in (("", "--bed 200mm", 2), ("--bed 0mmx100mm", "larger than nothing", 2), ("--bed 200x100", "no unit", 2), ("--bed 200mm", "no bed", 2), ("--scale 1:0", "no scale", 2), ("--scale 1:5000 --base 0mm", "base", 2), ("--scale 1:5000 --exaggerate 0", "exaggeration", 2), ("--bed 20mmx20mm --scale 1:1000", "larger than the bed", 2), ("--scale 1:5000 --error 0.1", "no unit", 2), ("--scale 1:5000 --error 0mm --memory 32M", "--memory", 3)):
            with self.subTest(words=words):
                self.assertIn(expect, self.refused("solid", TRUTH, *words.split(), "-o", "n.stl", status=status))
                self.assertFalse(os.path.exists(self.path("n.stl")))
        self.assertIn(".ply", self.refused("solid", TRUTH, "--scale", "5000", "-o", "n.ply", status=3))


if __name__ == "__main__":
    main()

"""Lines, areas and places in the forms that people carry on with, read by readers that we did not write."""

import json
import math
import os
import warnings
import zipfile

import ezdxf
import numpy
import shapefile
from lxml import etree

from tool import DEMO, SOURCE, ToolTest, main

KML = "{http://www.opengis.net/kml/2.2}"
GPX = "{http://www.topografix.com/GPX/1/1}"


def schema(name):
    return etree.RelaxNG(etree.parse(os.path.join(SOURCE, "tests", "schemas", name)))


def ring_area(points):
    x, y = numpy.array([p[:2] for p in points], float).T
    x, y = x - x[0], y - y[0]
    return 0.5 * float(numpy.sum(x * numpy.roll(y, -1) - numpy.roll(x, -1) * y))


class Vectors(ToolTest):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.truth = os.path.join(DEMO, "reference", "truth.tif")

    def part(self):
        self.run_tool("clip", self.truth, "--area", "box:677250,5841560,677430,5841740@EPSG:32725", "-o", "part.tif")
        return "part.tif"

    def lines(self, *words):
        """Contours in every form, and what GeoJSON says they are."""
        self.part()
        for ending in ("geojson", "dxf", "shp", "kml", "kmz", "gpx", "csv"):
            said = self.run_tool("contours", "part.tif", *words, "-o", f"c.{ending}").stdout
            self.assertIn("always longitude" if ending in ("geojson", "kml", "kmz", "gpx") else "EPSG:32725", said, ending)
        with open(self.path("c.geojson")) as f:
            return [(x["properties"], x["geometry"]["coordinates"]) for x in json.load(f)["features"]]

    def test_across_the_antimeridian(self):
        """Contours and bands of a hill on 180 degrees: no part goes round the globe, all of it is there."""
        ys, xs = numpy.mgrid[-40:40, -60:60]
        # In zone 1 the antimeridian lies at some 170,300 m east at 9 degrees north.
        with open(self.path("hill.asc"), "w") as f:
            f.write("ncols 120\nnrows 80\nxllcorner 158300\nyllcorner 992000\ncellsize 200\n")
            numpy.savetxt(f, 100 * numpy.exp(-(xs ** 2 + ys ** 2) / 600), "%.3f")
        with open(self.path("hill.prj"), "w") as f:
            f.write("EPSG:32601")
        self.run_tool("contours", "hill.asc", "--interval", "20m", "-o", "c.geojson")
        self.run_tool("contours", "hill.asc", "--interval", "20m", "-o", "c.kml")
        self.run_tool("contours", "hill.asc", "--interval", "20m", "-o", "c.gpkg")
        with open(self.path("c.geojson")) as f:
            features = json.load(f)["features"]
        lines = [line for g in (f["geometry"] for f in features) for line in (g["coordinates"] if g["type"] == "MultiLineString" else [g["coordinates"]])]
        self.assertEqual({g["geometry"]["type"] for g in features}, {"MultiLineString"})
        kml = etree.parse(self.path("c.kml"))
        texts = [e.text for e in kml.iter("{*}coordinates") if len(e.text.split()) > 1]
        told = [[[float(v) for v in p.split(",")] for p in t.split()] for t in texts]
        self.assertEqual(len(told), len(lines))
        for parts in (lines, told):
            for line in parts:
                x = numpy.array(line)[:, 0]
                self.assertLessEqual(abs(x).max(), 180)
                self.assertLess(numpy.ptp(x), 1)
            self.assertTrue(any(p[0][0] > 179 for p in parts) and any(p[0][0] < -179 for p in parts))
        # As a line again it is whole: a ring of the hill, as long as in the file that keeps the system.
        length = [self.run_json("section", "hill.asc", "--line", name, "-o", f"s{i}.csv")["lines"] for i, name in enumerate(("c.geojson", "c.gpkg"))]
        for a, b in zip(*length):
            self.assertAlmostEqual(a["length"] / b["length"], 1, places=3)

    def test_contours_beyond_memory(self):
        """The same file, however few levels fit at once; formats that are made whole say what would do."""
        words = ["contours", os.path.join(DEMO, "reference", "truth.tif"), "--interval", "0.1m", "--shortest", "5m"]
        for ending in ("gpkg", "geojson"):
            said = self.run_json(*words, "-o", f"whole.{ending}")
            few = self.run_json(*words, "--memory", "8M", "-o", f"few.{ending}")
            self.assertEqual((said["lines"], said["points"], said["levels"]), (few["lines"], few["points"], few["levels"]))
            self.assertGreater(said["points"] * 50, 3 * 8 << 20)
            with open(self.path(f"whole.{ending}"), "rb") as a, open(self.path(f"few.{ending}"), "rb") as b:
                self.assertTrue(a.read() == b.read(), ending)
        done = self.run_tool(*words, "--memory", "8M", "-o", "few.dxf", status=(3, 4))
        self.assertIn(".gpkg", done.stderr)
        self.assertFalse(os.path.exists(self.path("few.dxf")))
        self.assertIn("mapping programs", self.run_tool(*words, "--overwrite", "-o", "whole.gpkg").stdout)
        self.assertIn("CAD", self.run_json(words[0], words[1], "--interval", "20m", "-o", "c.dxf")["opens_in"])

    def test_contours_as_a_drawing(self):
        truth = self.lines("--interval", "2m")
        drawing = ezdxf.readfile(self.path("c.dxf"))
        self.assertEqual(len(drawing.audit().errors), 0)
        self.assertEqual(drawing.header["$INSUNITS"], 6)  # metres
        lines = [e for e in drawing.modelspace() if e.dxftype() == "POLYLINE"]
        self.assertEqual(len(lines), len(truth))
        for e, (properties, coordinates) in zip(lines, truth):
            self.assertTrue(e.is_3d_polyline)
            self.assertEqual(e.dxf.layer, "CONTOURS_INDEX" if properties["index"] else "CONTOURS_INTERMEDIATE")
            z = {v.dxf.location.z for v in e.vertices}
            self.assertEqual(z, {properties["level"]})
            closed = coordinates[0] == coordinates[-1]
            self.assertEqual(len(e.vertices), len(coordinates) - closed)
            self.assertEqual(e.is_closed, closed)
            data = [t.value for t in e.get_xdata("KATOPTRA")]
            self.assertEqual(data[data.index("level") + 1], properties["level"])
        labels = [e for e in drawing.modelspace() if e.dxftype() == "TEXT"]
        self.assertGreaterEqual(len(labels), 3)
        levels = {f"{p['level']:g}" for p, _ in truth if p["index"]}
        for e in labels:
            self.assertEqual(e.dxf.layer, "CONTOURS_LABELS")
            self.assertIn(e.dxf.text, levels)
            # On its line, within half of its letters and a cell; the top of its letters where the ground is higher.
            (x, y, _), size = e.dxf.align_point, e.dxf.height
            near = min(abs(v.dxf.location.x - x) + abs(v.dxf.location.y - y) for l in lines if f"{l.vertices[0].dxf.location.z:g}" == e.dxf.text for v in l.vertices)
            self.assertLess(near, 2 + size / 2)
            up = math.radians(e.dxf.rotation + 90)
            heights = self.run_json("sample", "part.tif", *(w for k in (4, -4) for w in ("--at", f"{x + k * math.cos(up)},{y + k * math.sin(up)}")))["points"]
            self.assertGreater(heights[0]["value"], heights[1]["value"])
        with open(self.path("c.prj")) as f:
            self.assertIn("UTM zone 25S", f.read())

    def test_a_drawing_in_feet(self):
        """Levels are what was asked for, in feet; heights of the drawing are in its own unit, as the plan is."""
        self.part()
        self.run_tool("contours", "part.tif", "--unit", "ft", "--interval", "5ft", "-o", "feet.dxf")
        drawing = ezdxf.readfile(self.path("feet.dxf"))
        lines = [e for e in drawing.modelspace() if e.dxftype() == "POLYLINE"]
        self.assertGreater(len(lines), 5)
        for e in lines:
            data = [t.value for t in e.get_xdata("KATOPTRA")]
            level = data[data.index("level") + 1]
            self.assertEqual(level % 5, 0)
            self.assertAlmostEqual(e.vertices[0].dxf.location.z, level * 0.3048, places=4)
            self.assertEqual(data[data.index("unit") + 1], "ft")

    def test_contours_as_a_shapefile(self):
        truth = self.lines("--interval", "2m")
        with shapefile.Reader(self.path("c.shp")) as r:
            self.assertEqual(r.shapeTypeName, "POLYLINEZ")
            self.assertEqual(r.encoding, "utf-8")
            self.assertEqual(len(r), len(truth))
            for one, (properties, coordinates) in zip(r.iterShapeRecords(), truth):
                self.assertEqual(set(one.shape.z), {properties["level"]})
                self.assertEqual(one.record.as_dict(), properties)
                self.assertEqual(len(one.shape.points), len(coordinates))

    def test_contours_for_a_globe_and_for_the_field(self):
        truth = self.lines("--interval", "2m")
        text = zipfile.ZipFile(self.path("c.kmz")).read("doc.kml")
        with open(self.path("c.kml"), "rb") as f:
            self.assertEqual(f.read(), text)
        document = etree.fromstring(text)
        rules = schema("kml.rng")
        self.assertTrue(rules.validate(document), rules.error_log)
        marks = document.find(f"{KML}Document").findall(f"{KML}Placemark")
        labels = document.findall(f".//{KML}Folder/{KML}Placemark")
        self.assertGreaterEqual(len(labels), 3)
        self.assertLessEqual({m.find(f"{KML}name").text for m in labels}, {f"{p['level']:g}" for p, _ in truth if p["index"]})
        self.run_tool("section", "part.tif", "--line", "c.kml", "-o", "s.csv")  # labels are not read again
        tracks = etree.parse(self.path("c.gpx"))
        rules = schema("gpx.rng")
        self.assertTrue(rules.validate(tracks), rules.error_log)
        tracks = tracks.findall(f"{GPX}trk")
        self.assertEqual(len(marks), len(truth))
        self.assertEqual(len(tracks), len(truth))
        for mark, track, (properties, coordinates) in zip(marks, tracks, truth):
            places = [[float(v) for v in p.split(",")] for p in mark.find(f".//{KML}coordinates").text.split()]
            numpy.testing.assert_allclose([p[:2] for p in places], coordinates, rtol=0, atol=2e-8)
            self.assertEqual({p[2] for p in places}, {properties["level"]})
            data = {d.get("name"): d.text for d in mark.iter(f"{KML}SimpleData")}
            self.assertEqual(float(data["level"]), properties["level"])
            points = track.findall(f".//{GPX}trkpt")
            numpy.testing.assert_allclose([[float(p.get("lon")), float(p.get("lat"))] for p in points], coordinates, rtol=0, atol=2e-8)
            self.assertEqual({float(p.find(f"{GPX}ele").text) for p in points}, {properties["level"]})

    def test_waypoints_get_their_heights(self):
        """Points of any form come back with the height of the surface, in every form; what is no form of points is refused."""
        self.part()
        spots = self.run_json("spots", "part.tif", "--radius", "20m", "-o", "spots.gpx")
        self.assertGreater(sum(spots[k] for k in ("summits", "pits", "saddles")), 0)
        places = [(p.get("lon"), p.get("lat")) for p in etree.parse(self.path("spots.gpx")).findall(f"{GPX}wpt")]
        with open(self.path("bare.gpx"), "w") as f:
            f.write('<gpx xmlns="http://www.topografix.com/GPX/1/1" version="1.1" creator="t">' + "".join(f'<wpt lat="{lat}" lon="{lon}"><name>w{i}</name></wpt>' for i, (lon, lat) in enumerate(places)) + "</gpx>")
        truth = [p["value"] for p in self.run_json("sample", "part.tif", "--points", "bare.gpx")["points"]]
        for name in ("high.gpx", "high.kml", "high.geojson", "high.gpkg", "high.shp"):
            self.run_tool("sample", "part.tif", "--points", "bare.gpx", "-o", name)
        self.assertIn("longitudes", self.refused("sample", "part.tif", "--points", "bare.gpx", "-o", "high.dxf", status=3))
        got = [float(p.find(f"{GPX}ele").text) for p in etree.parse(self.path("high.gpx")).findall(f"{GPX}wpt")]
        numpy.testing.assert_allclose(got, truth, atol=1e-3)
        with open(self.path("high.geojson")) as f:
            features = json.load(f)["features"]
        self.assertEqual([p["properties"]["name"] for p in features], [f"w{i}" for i in range(len(places))])
        numpy.testing.assert_allclose([p["geometry"]["coordinates"][2] for p in features], truth, atol=1e-3)
        self.assertIn(".dwg", self.refused("sample", "part.tif", "--points", "bare.gpx", "-o", "h.dwg", status=3))

    def test_areas(self):
        """Basins: the same ground in every form, holes as holes."""
        for ending in ("geojson", "shp", "kml", "dxf", "csv"):
            self.run_tool("basins", self.truth, "--sea", "0m", "--from-area", "2ha", "-o", f"b.{ending}")
        with open(self.path("b.geojson")) as f:
            truth = [x["properties"] for x in json.load(f)["features"]]
        self.assertGreaterEqual(len(truth), 5)
        with shapefile.Reader(self.path("b.shp")) as r:
            self.assertEqual(r.shapeTypeName, "POLYGON")
            areas = []
            for shape in r.shapes():
                ends = [*shape.parts[1:], len(shape.points)]
                areas.append(-sum(ring_area(shape.points[a:b]) for a, b in zip(shape.parts, ends)))
            for record, properties in zip(r.records(), truth):
                self.assertEqual(record["upstream_m"], properties["upstream_m2"])
        cells = [p["area_m2"] for p in truth]
        numpy.testing.assert_allclose(areas, cells, rtol=1e-4)
        rules = schema("kml.rng")
        document = etree.parse(self.path("b.kml"))
        self.assertTrue(rules.validate(document), rules.error_log)
        drawn = [e for e in ezdxf.readfile(self.path("b.dxf")).modelspace() if e.dxftype() == "POLYLINE"]
        self.assertTrue(all(e.is_closed and e.is_2d_polyline for e in drawn))
        # Each is read again as the area of another verb.
        for ending in ("shp", "kml", "dxf", "csv"):
            area = f"b.{ending}"
            clipped = self.run_json("clip", self.truth, "--area", area, "-o", f"{ending}.tif")
            self.assertAlmostEqual(clipped["cells"] - clipped["voids"], sum(cells), delta=0.001 * sum(cells))

    def test_what_is_written_is_read_as_lines_and_places(self):
        self.part()
        with open(self.path("line.geojson"), "w") as f:
            json.dump({"type": "Feature", "properties": {"name": "way"}, "geometry": {"type": "LineString", "coordinates": [[-30.9925, -37.5565], [-30.9915, -37.5557]]}}, f)
        self.run_tool("streams", self.truth, "--sea", "0m", "--from-area", "4ha", "-o", "s.gpkg")
        profile = None
        for ending in ("gpkg", "shp", "kml", "gpx", "dxf", "csv"):
            self.run_tool("streams", self.truth, "--sea", "0m", "--from-area", "4ha", "-o", f"s.{ending}", "--overwrite")
            said = self.run_json("section", self.truth, "--line", f"s.{ending}", "-o", f"p-{ending}.csv")
            profile = profile or said["length"]
            self.assertAlmostEqual(said["length"], profile, delta=0.01, msg=ending)
        # Heights of a stream never rise in any of them.
        with shapefile.Reader(self.path("s.shp")) as r:
            for shape in r.shapes():
                self.assertTrue((numpy.diff(shape.z) <= 0).all())
        with open(self.path("s.kml"), "rb") as f:
            self.assertIn(b"absolute", f.read())

    def test_a_section_is_a_line_with_heights(self):
        line = os.path.join(DEMO, "transect.geojson")
        said = self.run_json("section", self.truth, "--line", line, "-o", "t.csv")
        with open(self.path("t.csv")) as f:
            rows = [r.split(",") for r in f.read().splitlines() if r[:1].isdigit()]
        for ending in ("dxf", "shp", "geojson", "kml", "gpx", "gpkg"):
            self.run_tool("section", self.truth, "--line", line, "-o", f"t.{ending}")
            # And it is the line of another section, as it was.
            again = self.run_json("section", self.truth, "--line", f"t.{ending}", "-o", f"again-{ending}.csv")
            self.assertAlmostEqual(again["length"], said["length"], delta=0.01, msg=ending)
        drawing = [e for e in ezdxf.readfile(self.path("t.dxf")).modelspace() if e.dxftype() == "POLYLINE"]
        self.assertEqual(len(drawing), 1)
        places = numpy.array([tuple(v.dxf.location) for v in drawing[0].vertices])
        self.assertEqual(len(places), said["points"])
        self.assertAlmostEqual(places[:, 2].min(), said["range"][0], places=4)
        with shapefile.Reader(self.path("t.shp")) as r:
            numpy.testing.assert_allclose(r.shape(0).z, places[:, 2], atol=1e-5)
            self.assertAlmostEqual(r.record(0)["length"], said["length"], places=6)
        with open(self.path("t.geojson")) as f:
            third = [p[2] for p in json.load(f)["features"][0]["geometry"]["coordinates"]]
        numpy.testing.assert_allclose(third, places[:, 2], atol=1e-5)
        self.assertEqual(len(rows), said["points"])

    def test_a_shapefile_made_elsewhere(self):
        """Old tables: another code page, dates, numbers without decimals; two areas in a shape, one within the hole of the other."""
        with shapefile.Writer(self.path("old.shp"), encoding="cp1252") as w:
            w.field("NAME", "C", 20)
            w.field("COUNT", "N", 9, 0)
            w.field("SHARE", "N", 12, 4)
            w.poly([[(677300, 5841600), (677300, 5841700), (677400, 5841700), (677400, 5841600), (677300, 5841600)], [(677320, 5841620), (677380, 5841620), (677380, 5841680), (677320, 5841680), (677320, 5841620)], [(677340, 5841640), (677340, 5841660), (677360, 5841660), (677360, 5841640), (677340, 5841640)]])
            w.record("Mündung", 7, 0.25)
        with open(self.path("old.cpg"), "w") as f:
            f.write("1252")
        self.assertIn(".prj", self.refused("clip", self.truth, "--area", "old.shp", "-o", "n.tif", status=3))  # nobody knows where it lies
        with open(self.path("old.prj"), "w") as f, open(os.path.join(DEMO, "separation", "ellipsoid_to_egm2008.prj")) as known:
            f.write(known.read())
        said = self.run_json("clip", self.truth, "--area", "old.shp", "-o", "n.tif")
        self.assertEqual(said["cells"] - said["voids"], 100**2 - 60**2 + 20**2)
        zones = self.run_json("statistics", self.truth, "--polygons", "old.shp")
        self.assertIn("Mündung", json.dumps(zones, ensure_ascii=False))

    def test_a_placemark_drawn_on_a_globe(self):
        with open(self.path("drawn.kml"), "w") as f:
            f.write('<?xml version="1.0"?><kml xmlns="http://www.opengis.net/kml/2.2" xmlns:gx="http://www.google.com/kml/ext/2.2"><Document><Folder><Folder><Placemark><name>my area</name><Polygon><outerBoundaryIs><LinearRing><coordinates>\n\t-30.9925,-37.5565,0 -30.9915,-37.5565,0\n -30.9915,-37.5557,0 -30.9925,-37.5557,0 -30.9925,-37.5565,0 </coordinates></LinearRing></outerBoundaryIs></Polygon></Placemark></Folder></Folder></Document></kml>')
        with zipfile.ZipFile(self.path("drawn.kmz"), "w") as z:
            z.write(self.path("drawn.kml"), "files/drawn.kml")
        cells = [self.run_json("clip", self.truth, "--area", f"drawn.{e}", "-o", f"{e}.tif")["cells"] for e in ("kml", "kmz")]
        self.assertEqual(cells[0], cells[1])
        self.assertGreater(cells[0], 5000)

    def test_what_cannot_be_is_said(self):
        self.part()
        self.run_tool("reproject", "part.tif", "--crs", "EPSG:4326", "-o", "degrees.tif")
        self.assertIn("reproject --crs utm", self.refused("contours", "degrees.tif", "--interval", "2m", "-o", "n.dxf", status=3))
        self.assertIn("areas", self.refused("basins", "part.tif", "--from-area", "1000m2", "-o", "n.gpx", status=3))
        self.assertIn(".dxf", self.refused("contours", "part.tif", "--interval", "2m", "-o", "n.dwg", status=3))
        self.assertIn(".shp", self.refused("streams", "part.tif", "--from-area", "1000m2", "-o", "n.tif", status=3))
        for name, content in (("a.kml", "<kml>"), ("a.kml", "<kml><Document/></kml>"), ("a.dxf", "0\nSECTION\n2\nENTITIES\n"), ("a.shp", "x" * 200), ("a.kmz", "PK\x03\x04")):
            with open(self.path(name), "w") as f:
                f.write(content)
            self.refused("clip", "part.tif", "--area", name, "-o", "n.tif", status=3)
        self.assertFalse([n for n in os.listdir(self.folder) if n.startswith("n.")])


if __name__ == "__main__":
    warnings.simplefilter("ignore")
    main()

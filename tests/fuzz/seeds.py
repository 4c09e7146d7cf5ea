"""Writes small valid inputs for the fuzzers into corpus/TARGET/seed_*: a fuzzer that starts from nothing finds little."""
import io
import json
import os
import sqlite3
import struct
import sys
import tarfile
import zipfile
import zlib

import h5py
import netCDF4
import numpy as np
import tifffile

OUT = sys.argv[1]


def put(target, name, data):
    os.makedirs(os.path.join(OUT, target), exist_ok=True)
    with open(os.path.join(OUT, target, "seed_" + name), "wb") as f:
        f.write(data)


z = (np.arange(20 * 17).reshape(17, 20) % 50).astype("f4") + 0.5
PLACE = [(33550, "d", 3, (2.0, 2.0, 0.0)), (33922, "d", 6, (0.0, 0.0, 0.0, 5e5, 5e6, 0.0)), (42113, "s", 0, "7")]
KEYS = (1, 1, 0, 3, 1024, 0, 1, 1, 1025, 0, 1, 1, 3072, 0, 1, 32725)


def tiff(name, data, **options):
    f = io.BytesIO()
    tags = PLACE + [(34735, "H", len(KEYS), KEYS)] + options.pop("tags", [])
    tifffile.imwrite(f, data, extratags=tags, **options)
    put("tiff", name, f.getvalue())


tiff("strips", z)
tiff("tiles", z, tile=(16, 16))
tiff("deflate", z.astype("i2"), tile=(16, 16), compression="zlib")
tiff("big", z.astype("f8"), bigtiff=True, byteorder=">")
tiff("bands", np.stack([z, z]), planarconfig="separate", photometric="minisblack")
tiff("scaled", z.astype("i2"), tags=[(42112, "s", 0, '<M><Item sample="0" role="scale">0.5</Item></M>')])
f = io.BytesIO()
with tifffile.TiffWriter(f) as t:
    t.write(z, extratags=PLACE, photometric="minisblack")
    t.write(z > 5, photometric=4, subfiletype=4, bitspersample=1)
put("tiff", "mask", f.getvalue())

# A void value outside the type, and strips that were never written.
f = io.BytesIO()
with tifffile.TiffWriter(f) as t:
    t.write(z.astype("u2"), extratags=PLACE[:2] + [(42113, "s", 0, "-99999")], rowsperstrip=5, photometric="minisblack")
sparse = bytearray(f.getvalue())
with tifffile.TiffFile(io.BytesIO(bytes(sparse))) as t:
    for tag in ("StripOffsets", "StripByteCounts"):
        struct.pack_into("<H" if t.pages[0].tags[tag].dtype == 3 else "<I", sparse, t.pages[0].tags[tag].valueoffset, 0)
put("tiff", "sparse", bytes(sparse))
# A CRS by parameters: oblique Mercator in kilometres, with its shift to WGS 84.
own = (1, 1, 0, 7, 1024, 0, 1, 1, 2048, 0, 1, 4326, 3072, 0, 1, 32767, 3074, 0, 1, 32767, 3075, 0, 1, 3, 3076, 0, 1, 9036, 3085, 34736, 1, 0)
f = io.BytesIO()
tifffile.imwrite(f, z, extratags=PLACE[:2] + [(34735, "H", len(own), own), (34736, "d", 3, (40.0, 0.999, 1e300))], photometric="minisblack")
put("tiff", "parameters", f.getvalue())

rows = "\n".join(" ".join(f"{v}" for v in r) for r in z)
put("ascii_grid", "corner", f"ncols 20\nnrows 17\nxllcorner 1\nyllcorner 2\ncellsize 3\nNODATA_value -9999\n{rows}\n".encode())
put("ascii_grid", "whole", b"NROWS 2\nNCOLS 3\nXLLCENTER 0\nYLLCENTER 0\nDX 1\nDY 2\n1 2 3\n-9999 5 6\n")
put("xyz", "plain", "\n".join(f"{c * 2} {r * 2} {z[r, c]}" for r in range(5) for c in range(5)).encode())
put("xyz", "named", b"# c\nid;lat;lon;depth\n1;-37,5;-31,0;4,5\n2;-37,5;-31,1;5\n3;-37,6;-31,0;5\n4;-37,6;-31,1;5,5\n")
put("gpx", "track", b'<?xml version="1.0"?><gpx version="1.1"><wpt lat="-37.5" lon="-31"><ele>12.5</ele><name>A</name></wpt><trk><name>t</name><trkseg><trkpt lat="-37.5" lon="-31"><ele>1</ele></trkpt><trkpt lat="-37.6" lon="-31.1"/></trkseg></trk></gpx>')
put("correction", "plain", b'{"coregistration": {"correction": {"factor": 1, "offset_m": -0.18, "shift": [0.5, -1], "crs": "EPSG:32725", "tilt": [1e-4, 0], "pivot": [677000, 5841000]}}}')
put("csv", "plain", b'x,y,name\n1,2,"a ""b"", c"\n3,4,d\r\n')
for kind, order in [("FLOAT", "I"), ("SIGNEDINT", "M")]:
    for layout in ["BIL", "BIP", "BSQ"]:
        data = np.stack([z[:4, :5]] * 2).astype({"FLOAT": "<f4", "SIGNEDINT": ">i2"}[kind])
        head = (f"BYTEORDER {order}\nLAYOUT {layout}\nNROWS 4\nNCOLS 5\nNBANDS 2\nNBITS {8 * data.itemsize}\nPIXELTYPE {kind}\n"
                "ULXMAP 1\nULYMAP 2\nXDIM 3\nYDIM 3\nNODATA 7\n")
        put("flat", layout.lower() + kind.lower(), head.encode() + b'\0{"crs": "EPSG:32725", "zero": 1, "step": 2}\0' + data.tobytes())
for form in ["NETCDF3_CLASSIC", "NETCDF3_64BIT_OFFSET", "NETCDF3_64BIT_DATA", "NETCDF4"]:
    path = os.path.join(OUT, "tmp.nc")
    with netCDF4.Dataset(path, "w", format=form) as d:
        for name, n, unit in [("lat", 5, "degrees_north"), ("lon", 6, "degrees_east")]:
            d.createDimension(name, n)
            c = d.createVariable(name, "f8", (name,))
            c.units = unit
            c[:] = np.arange(n) / 10
        v = d.createVariable("height", "i2", ("lat", "lon"), fill_value=-1, **({"zlib": True} if form == "NETCDF4" else {}))
        v.scale_factor, v.grid_mapping, v.units = 0.5, "crs", "m"
        d.createVariable("crs", "i4", ()).grid_mapping_name = "latitude_longitude"
        v[:] = z[:5, :6]
    put("netcdf", form.lower(), open(path, "rb").read())
    os.remove(path)
# Coordinates in kilometres, a mapping by parameters alone, voids by range.
with netCDF4.Dataset(path, "w") as d:
    for name, n, kind in [("y", 5, "projection_y_coordinate"), ("x", 6, "projection_x_coordinate")]:
        d.createDimension(name, n)
        c = d.createVariable(name, "f8", (name,))
        c.units, c.standard_name = "km", kind
        c[:] = np.arange(n) / 10
    v = d.createVariable("height", "f4", ("y", "x"))
    v.valid_range, v.grid_mapping, v.units = np.array([0, 40], "f4"), "crs", "m"
    m = d.createVariable("crs", "i4", ())
    m.grid_mapping_name, m.standard_parallel = "lambert_conformal_conic", np.array([30.0, 60.0])
    m.longitude_of_central_meridian, m.latitude_of_projection_origin = 10.0, 30.0
    v[:] = z[:5, :6]
put("netcdf", "mapping", open(path, "rb").read())
os.remove(path)
head = "BYTEORDER I\nLAYOUT BIL\nNROWS 4\nNCOLS 5\nNBANDS 2\nNBITS 16\nPIXELTYPE SIGNEDINT\nBANDROWBYTES 16\nTOTALROWBYTES 40\nULXMAP 1\nULYMAP 2\nXDIM 3\nYDIM 3\n"
put("flat", "padded", head.encode() + b"\0\0" + bytes(range(160)))
path = os.path.join(OUT, "tmp.bag")
xml = ("<m><a:resolution xmlns:a='b'>2</a:resolution><cornerPoints>1,2 39,34</cornerPoints><dateStamp>2020-01-02</dateStamp>"
       "<referenceSystemInfo><code>EPSG:32725</code></referenceSystemInfo></m>")
with h5py.File(path, "w") as d:
    g = d.create_group("BAG_root")
    g.create_dataset("elevation", data=z)
    g.create_dataset("uncertainty", data=z, chunks=(8, 8), compression="gzip")
    g.create_dataset("metadata", data=np.frombuffer(xml.encode(), "S1"))
put("bag", "plain", open(path, "rb").read())
# The same with nodes of its own in two cells.
with h5py.File(path, "a") as f:
    table = np.zeros(f["BAG_root/elevation"].shape, [("index", "u4"), ("dimensions_x", "u4"), ("dimensions_y", "u4"), ("resolution_x", "f4"), ("resolution_y", "f4"), ("sw_corner_x", "f4"), ("sw_corner_y", "f4")])
    table["index"] = 0xFFFFFFFF
    table[0, 0], table[1, 2] = (0, 2, 2, 1, 1, 0.5, 0.5), (4, 1, 1, 2, 2, 1, 1)
    f["BAG_root"].create_dataset("varres_metadata", data=table)
    f["BAG_root"].create_dataset("varres_refinements", data=np.array([(-5, 0.1)] * 5, [("depth", "f4"), ("depth_uncrt", "f4")])[None, :])
put("bag", "refined", open(path, "rb").read())
os.remove(path)
ring = [[-31.1, -37.7], [-30.9, -37.7], [-30.9, -37.4], [-31.1, -37.4], [-31.1, -37.7]]
item = {"type": "Feature", "stac_version": "1.0.0", "id": "a", "bbox": [-31.1, -37.7, -30.9, -37.4], "geometry": {"type": "Polygon", "coordinates": [ring]},
        "properties": {"datetime": "2022-01-01T00:00:00Z", "gsd": 1, "proj:epsg": 32725, "proj:shape": [10, 20], "proj:transform": [2, 0, 676000, 0, -2, 5842000],
                       "pc:count": 5, "katoptra:heights": "EPSG:3855", "deprecated": False}, "links": [], "collection": "c",
        "assets": {"data": {"href": "../a.tif", "roles": ["data"], "file:size": 5, "file:checksum": "1220aa", "raster:bands": [{"data_type": "int16", "unit": "m"}]}}}
put("stac", "item", json.dumps(item).encode())
put("stac", "collection", json.dumps({"type": "Collection", "id": "c", "license": "CC0-1.0", "providers": [{"name": "x", "roles": ["host"]}], "extent": {}}).encode())
put("items", "two", json.dumps({"links": [{"a": "\\"}], "type": "FeatureCollection", "features": [item, dict(item, id="b\"]}", bbox=[179, 0, -179, 1])]}).encode())
put("search", "all", json.dumps({"bbox": [0, 0, 1, 1], "datetime": "2020-01-01T00:00:00Z/..", "collections": ["c"], "ids": ["a"], "limit": 5, "token": "3",
                                 "filter": {"op": "or", "args": [{"op": "<=", "args": [{"property": "gsd"}, 1]}, {"op": "in", "args": [{"property": "id"}, ["a"]]}]}}).encode())
put("area", "box", "box:37°36'S,31 3 0 W,37 30 S,30°57'W".encode())
put("area", "minus_zero", "box:-0°30',-0 15 0,0.5W,0°45'S".encode())
put("area", "antimeridian", b"circle:180,-89.9,50km")
put("area", "circle", b"circle:-37.55,131,1km@EPSG:4326")
put("items", "backslash", json.dumps({"title": "C:\\", "note": "\\\"", "type": "FeatureCollection", "features": [item]}).encode())
put("hgt", "short", b"\0\1" * 40)
# Three meridians of four heights.
head = bytearray(("UHL10310000W0380000S99999999NA  U".ljust(47) + "000300040").ljust(80).encode() + b"DSIU".ljust(648) + b"ACC".ljust(2700))
head[80 + 141 : 80 + 149] = b"E96WGS84"
cell = bytes(head)
for c in range(3):
    record = b"\xaa" + struct.pack(">BHHH", 0, c, c, 0) + struct.pack(">4H", c, 5, 0x8007, 0xFFFF)
    cell += record + struct.pack(">I", sum(record))
put("dted", "plain", cell)
path = os.path.join(OUT, "tmp.h5")
with h5py.File(path, "w") as f:
    f.attrs["horizontalCRS"], f.attrs["verticalDatum"], f.attrs["issueDate"] = np.int32(32725), np.int32(12), "20190711"
    it = f.create_group("BathymetryCoverage/BathymetryCoverage.01")
    for key, v in (("gridOriginLongitude", 676000.0), ("gridOriginLatitude", 5842000.0), ("gridSpacingLongitudinal", 2.0), ("gridSpacingLatitudinal", 2.0)):
        it.attrs[key] = v
    values = np.zeros((5, 7), [("depth", "f4"), ("uncertainty", "f4")])
    values["depth"] = np.arange(35).reshape(5, 7)
    it.create_group("Group_001").create_dataset("values", data=values, chunks=(4, 4), compression="gzip")
put("s102", "plain", open(path, "rb").read())
os.remove(path)


def grey16(samples):
    rows, cols = samples.shape
    lines = b"".join(b"\0" + row.astype(">u2").tobytes() for row in samples)
    chunk = lambda kind, body: struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))
    head = struct.pack(">IIBBBBB", cols, rows, 16, 0, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(lines)) + chunk(b"IEND", b"")


def coverage(name, kind, tile):
    """A gridded coverage of two tiles, in pages as small as SQLite allows."""
    path = os.path.join(OUT, "tmp.gpkg")
    db = sqlite3.connect(path)
    db.executescript(f"""PRAGMA page_size = 512;
        CREATE TABLE gpkg_contents (table_name TEXT, min_x REAL, min_y REAL, max_x REAL, max_y REAL);
        CREATE TABLE gpkg_tile_matrix_set (table_name TEXT, srs_id INTEGER, min_x REAL, min_y REAL, max_x REAL, max_y REAL);
        CREATE TABLE gpkg_tile_matrix (table_name TEXT, zoom_level INTEGER, matrix_width INTEGER, matrix_height INTEGER, tile_width INTEGER, tile_height INTEGER, pixel_x_size REAL, pixel_y_size REAL);
        CREATE TABLE gpkg_2d_gridded_coverage_ancillary (id INTEGER PRIMARY KEY, tile_matrix_set_name TEXT, datatype TEXT, scale REAL, offset REAL, data_null REAL, grid_cell_encoding TEXT, uom TEXT);
        CREATE TABLE gpkg_2d_gridded_tile_ancillary (tpudt_name TEXT, tpudt_id INTEGER, scale REAL, offset REAL);
        CREATE TABLE dem (id INTEGER PRIMARY KEY, zoom_level INTEGER, tile_column INTEGER, tile_row INTEGER, tile_data BLOB);
        INSERT INTO gpkg_tile_matrix_set VALUES ('dem', 0, 0, 0, 16, 8);
        INSERT INTO gpkg_tile_matrix VALUES ('dem', 1, 2, 1, 8, 8, 1, 1);
        INSERT INTO gpkg_2d_gridded_coverage_ancillary VALUES (1, 'dem', '{kind}', 0.1, 5, 9, 'grid-value-is-corner', 'm');
        INSERT INTO gpkg_2d_gridded_tile_ancillary VALUES ('dem', 1, 2, 1);""")
    for c in range(2):
        db.execute("INSERT INTO dem VALUES (?, 1, ?, 0, ?)", (c + 1, c, tile))
    db.commit()
    db.close()
    put("gridded_coverage", name, open(path, "rb").read())
    os.remove(path)


coverage("integers", "integer", grey16(np.arange(64).reshape(8, 8)))
f = io.BytesIO()
tifffile.imwrite(f, z[:8, :8])
coverage("floats", "float", f.getvalue())
f = io.BytesIO()
with zipfile.ZipFile(f, "w", zipfile.ZIP_DEFLATED) as t:
    t.writestr("a/b.asc", "ncols 1")
    t.writestr(zipfile.ZipInfo("stored.tif"), "II*")
put("archive", "zip", f.getvalue())
f = io.BytesIO()
with zipfile.ZipFile(f, "w") as t:
    t.writestr("nothing.asc", "")
put("archive", "empty_file", f.getvalue())
for mode in ["gz", "bz2", "xz", ""]:
    f = io.BytesIO()
    with tarfile.open(fileobj=f, mode="w:" + mode) as t:
        info = tarfile.TarInfo("a.xyz")
        info.size = 6
        t.addfile(info, io.BytesIO(b"1 2 3\n"))
    put("archive", "tar" + mode, f.getvalue())


def octree(laz):
    """The same points as a COPC file: all of them in the root of an octree. After the first record comes that of the
    octree; behind the table of chunks its only page."""
    header, after = bytearray(laz[:375]), laz[375:]
    more = 54 + 160
    points_at = struct.unpack_from("<I", header, 96)[0]
    count = struct.unpack_from("<Q", header, 247)[0]
    chunk = points_at + 8
    table = struct.unpack_from("<q", laz, points_at)[0]
    page = len(laz) + more + 60
    struct.pack_into("<I", header, 96, points_at + more)
    struct.pack_into("<I", header, 100, struct.unpack_from("<I", header, 100)[0] + 1)
    struct.pack_into("<Q", header, 235, len(laz) + more)
    struct.pack_into("<I", header, 243, 1)
    high_x, low_x, high_y, low_y, high_z, low_z = struct.unpack_from("<6d", header, 179)
    half = max(high_x - low_x, high_y - low_y, high_z - low_z) / 2 + 1
    info = struct.pack("<5d2Q", (high_x + low_x) / 2, (high_y + low_y) / 2, (high_z + low_z) / 2, half, half / 64, page, 32)
    record = struct.pack("<H16sHH32s", 0, b"copc", 1, 160, b"") + info.ljust(160, b"\0")
    body = bytearray(after)
    struct.pack_into("<q", body, points_at - 375, table + more)
    long_record = struct.pack("<H16sHQ32s", 0, b"copc", 1000, 32, b"")
    entry = struct.pack("<4iQii", 0, 0, 0, 0, chunk + more, table - chunk, count)
    return bytes(header) + record + bytes(body) + long_record + entry


with open(os.path.join(OUT, "las", "seed_laz6"), "rb") as f:
    put("las", "copc", octree(f.read()))
# One stream that is said to hold two gigabytes.
with open(os.path.join(OUT, "las", "seed_laz1"), "rb") as f:
    vast = bytearray(f.read())
at = vast.index(b"laszip encoded") - 2 + 54
struct.pack_into("<H", vast, at, 1)
struct.pack_into("<I", vast, 107, 16_000_000)
put("las", "vast", bytes(vast))

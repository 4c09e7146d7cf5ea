"""Sources are compiled in batches, so what one hides in its unnamed namespace is seen by the others of its library: no two
may hide the same type, constant or function, and no hidden type or constant may cover what a header of ours declares."""
import collections
import glob
import os
import re
import unittest

ROOT = os.environ.get("KATOPTRA_SOURCE", os.path.dirname(os.path.dirname(os.path.abspath(__file__))))
TYPE = re.compile(r"^(?:template <.*> )?(?:class|struct|union|enum class|enum) (\w+)(?=[ :;{])|^using (\w+) =")
VALUE = re.compile(r"^(?:inline |static |thread_local |constexpr |const )+[\w:<>, *&]*?\b(k[A-Z]\w*|\w+_)\b(?=[ \[{=;(])")
FUNCTION = re.compile(r"^(?:\[\[\w+\]\] |inline |static |constexpr |[A-Z_]+ )*[\w:<>, *&]+?[ *&](\w+)\((.*)$")


def declared(path):
    """(namespace, hidden, kind, name, parameters) of what a file declares outside of its types."""
    namespaces = []
    with open(path) as f:
        text = re.sub(r"//.*?$", lambda m: m[0] if m[0].startswith("// namespace") else "", f.read(), flags=re.M)
    lines = text.splitlines()
    for number, line in enumerate(lines):
        if match := re.match(r"namespace(?: ([\w:]+))? \{$", line):
            namespaces.append(match[1] or "")
            continue
        if re.match(r"\}\s*// namespace", line):
            namespaces.pop()
            continue
        if not re.match(r"[\w\[]", line) or not namespaces:
            continue
        space, hidden = "::".join(n for n in namespaces if n), "" in namespaces
        if match := TYPE.match(line):
            if not line.rstrip().endswith(";") or match[2]:
                yield space, hidden, "type", match[1] or match[2], line if match[2] else path
        elif match := VALUE.match(line):
            yield space, hidden, "constant", match[1], ""
        elif match := FUNCTION.match(line):
            said = " ".join([match[2], *map(str.strip, lines[number + 1:number + 6])])
            depth, end = 1, 0
            while end < len(said) and depth:
                depth += {"(": 1, ")": -1}.get(said[end], 0)
                end += 1
            types = [re.sub(r" ?=.*| ?\b\w+$", "", p.strip()) for p in re.split(r",(?![^<(]*[>)])", said[:end - 1])]
            yield space, hidden, "function", match[1], ", ".join(types)


def declared_in_headers():
    """The headers that declare a name, by (namespace, name)."""
    headers = collections.defaultdict(set)
    for path in glob.glob(f"{ROOT}/src/**/*.hpp", recursive=True) + glob.glob(f"{ROOT}/include/**/*.hpp", recursive=True):
        for space, hidden, _, name, _ in declared(path):
            if not hidden:
                headers[space, name].add(os.path.relpath(path, ROOT))
    return headers


def libraries():
    """The sources of each library that are compiled together."""
    with open(f"{ROOT}/CMakeLists.txt") as f:
        cmake = f.read()
    alone = re.search(r"set\(detectors ([\w ]+)\)", cmake)[1].split()
    for rooms in re.findall(r"katoptra_library\(\w+ ROOMS ([a-z ]+?)\s*(?:LINK|LIGHTLY|PRIVATE|\))", cmake):
        paths = [p for room in rooms.split() for p in sorted(glob.glob(f"{ROOT}/src/{room}/**/*.cpp", recursive=True))]
        yield [p for p in paths if not p.endswith("_test.cpp") and not p.endswith(tuple(f"/detectors/{a}.cpp" for a in alone))]


class NamesApart(unittest.TestCase):
    maxDiff = None

    def test_no_name_is_hidden_twice_in_a_library_nor_covers_a_header(self):
        headers = declared_in_headers()
        wrong, seen = set(), 0
        for sources in libraries():
            first = {}
            for path in sources:
                source = os.path.relpath(path, ROOT)
                for space, _, kind, name, types in (d for d in declared(path) if d[1]):
                    seen += 1
                    other, as_what = first.setdefault((space, name, types if kind == "function" else None), (source, types))
                    # The same name for the same type may be given twice.
                    if other != source and not (kind == "type" and types == as_what):
                        wrong.add(f"{name} is hidden in {other} and in {source}")
                    if kind != "function":
                        wrong |= {f"{name} of {source} covers that of {header}" for header in headers.get((space, name), ())}
        self.assertGreater(seen, 500)
        self.assertEqual("", "\n".join(sorted(wrong)))


if __name__ == "__main__":
    unittest.main()

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


def rooms_of(library, cmake):
    rooms = re.search(rf"katoptra_library\({library} ROOMS ([a-z ]+?)\s*(?:LINK|LIGHTLY|PRIVATE|\))", cmake)[1]
    return rooms.split()


class NamesApart(unittest.TestCase):
    maxDiff = None

    def sources(self, rooms):
        for room in rooms:
            for path in sorted(glob.glob(f"{ROOT}/src/{room}/**/*.cpp", recursive=True)):
                if not path.endswith("_test.cpp"):
                    yield path

    def test_no_name_is_hidden_twice_in_a_library_nor_covers_a_header(self):
        with open(f"{ROOT}/CMakeLists.txt") as f:
            cmake = f.read()
        alone = set(re.findall(r"set\(detectors ([\w ]+)\)", cmake)[0].split())
        open_names = collections.defaultdict(set)  # the headers that declare each
        for path in glob.glob(f"{ROOT}/src/**/*.hpp", recursive=True) + glob.glob(f"{ROOT}/include/**/*.hpp", recursive=True):
            for space, hidden, kind, name, types in declared(path):
                if not hidden:
                    open_names[space, name].add(os.path.relpath(path, ROOT))
        wrong = []
        seen = 0
        for library in re.findall(r"katoptra_library\((\w+) ROOMS", cmake):
            hidden_names = {}
            for path in self.sources(rooms_of(library, cmake)):
                name_of_file = os.path.relpath(path, ROOT)
                if "check/detectors/" in path and os.path.basename(path)[:-4] in alone:
                    continue
                for space, hidden, kind, name, types in declared(path):
                    if not hidden:
                        continue
                    seen += 1
                    key = (space, name, types if kind == "function" else None)
                    other, as_what = hidden_names.setdefault(key, (name_of_file, types))
                    # The same name for the same type may be given twice.
                    if other != name_of_file and not (kind == "type" and types == as_what):
                        wrong.append(f"{name} is hidden in {other} and in {name_of_file}")
                    if kind != "function":
                        wrong += [f"{name} of {name_of_file} covers that of {header}" for header in open_names.get((space, name), ())]
        self.assertGreater(seen, 500)
        self.assertEqual("", "\n".join(sorted(set(wrong))))


if __name__ == "__main__":
    unittest.main()

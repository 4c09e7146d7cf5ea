"""The example at the top of each public header, as one source to compile: header_examples.py HEADERS OUTPUT."""
import os
import re
import sys

# What the examples take for granted, as a reader does.
GIVEN = """
using namespace katoptra;
template <class... T> void say(const T&...);
template <class... T> void use(const T&...);
template <class... T> void save(const T&...);
template <class... T> void record(const T&...);
void draw(double);
void wait_for_key();
void stop();
void shade_row(std::size_t row);
BlockCache::Bytes decode(int block);
extern Grid dem, grid, a, b, c, old_survey, new_survey, reference, separation, depth, out;
extern Area area, study;
extern Frame frame;
extern PointCloud cloud, raw;
extern std::vector<PointCloud> sheets;
extern std::vector<double> residuals, metres, z;
extern std::vector<Point> points;
extern std::vector<ContourLine> lines;
extern Layer parcels;
extern LineString line;
extern Point start;
extern RunOptions run;
extern std::size_t rows;
extern std::vector<std::uint8_t> bytes;
extern std::string text;
extern std::uint64_t file;
extern TileRecord tile;
extern OrderBook book;
"""


def example_of(header):
    """The lines of the opening comment that are set in, without what is said behind them."""
    lines = []
    with open(header) as f:
        for line in f:
            if not line.startswith("//"):
                break
            if line.startswith("//   "):
                lines.append(re.sub(r"\s+//.*", "", line[2:].rstrip()))
            elif lines:
                break  # what is set in further down are tables
    code = "\n".join(lines)
    return code if ";" in code else ""


def main():
    root, output = sys.argv[1:]
    headers = sorted(os.path.relpath(os.path.join(d, f), root) for d, _, files in os.walk(root) for f in files if f.endswith(".hpp"))
    text = "#include <thread>\n" + "".join(f'#include "{h}"\n' for h in headers) + GIVEN
    for h in headers:
        code = example_of(os.path.join(root, h))
        if not code:
            print(f"{h}: no example at its top", file=sys.stderr)
            sys.exit(1)
        name = re.sub(r"\W", "_", h)
        text += f"namespace in_{name} {{\n[[maybe_unused]] static void example() {{\n#line 1 \"{h}\"\n{code}\n}}\n}}\n"
    with open(output, "w") as f:
        f.write(text)


if __name__ == "__main__":
    main()

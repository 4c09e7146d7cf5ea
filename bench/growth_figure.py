#!/usr/bin/env python3
"""Draws what build/bin/growth tells: time and memory of each command against the number of cells.

    bench/growth_figure.py growth.csv docs/growth.svg
"""
import csv
import math
import sys

COLOURS = ["#1b4f72", "#cb4335", "#27ae60", "#8e44ad", "#d68910", "#16a085", "#85929e", "#6e2c00", "#000000", "#e84393", "#a3b300"]
WIDTH, HEIGHT, LEFT, TOP, BOTTOM = 980, 460, 64, 40, 48


class Panel:
    """One graph with logarithmic axes."""

    def __init__(self, x, title, x_range, y_range):
        self.x, self.title, self.x_range, self.y_range = x, title, x_range, y_range
        self.width, self.height = 330, HEIGHT - TOP - BOTTOM

    def place(self, cells, value):
        def share(v, low, high):
            return (math.log10(v) - math.log10(low)) / (math.log10(high) - math.log10(low))

        return (
            self.x + self.width * share(cells, *self.x_range),
            TOP + self.height * (1 - share(value, *self.y_range)),
        )

    def frame(self):
        out = [f'<text x="{self.x}" y="{TOP - 14}" font-weight="bold">{self.title}</text>']
        for k in range(round(math.log10(self.x_range[0])), round(math.log10(self.x_range[1])) + 1):
            x, _ = self.place(10.0**k, self.y_range[0])
            out.append(f'<line x1="{x:.1f}" y1="{TOP}" x2="{x:.1f}" y2="{TOP + self.height}" stroke="#ddd"/>')
            out.append(f'<text x="{x:.1f}" y="{TOP + self.height + 18}" text-anchor="middle">10<tspan dy="-5" font-size="9">{k}</tspan></text>')
        low, high = (math.log10(v) for v in self.y_range)
        for k in range(math.ceil(low - 1e-9), math.floor(high + 1e-9) + 1):
            _, y = self.place(self.x_range[0], 10.0**k)
            out.append(f'<line x1="{self.x}" y1="{y:.1f}" x2="{self.x + self.width}" y2="{y:.1f}" stroke="#ddd"/>')
            out.append(f'<text x="{self.x - 6}" y="{y + 4:.1f}" text-anchor="end">{10.0 ** k:g}</text>')
        out.append(f'<text x="{self.x + self.width / 2}" y="{HEIGHT - 10}" text-anchor="middle">cells, or points</text>')
        return out


def main():
    rows = list(csv.DictReader(open(sys.argv[1])))
    commands = list(dict.fromkeys(r["command"] for r in rows))
    cells = [float(r["cells"]) for r in rows]
    x_range = (10 ** math.floor(math.log10(min(cells))), 10 ** math.ceil(math.log10(max(cells)) - 0.3))
    x_range = (x_range[0], max(x_range[1], max(cells) * 1.1))
    seconds = [float(r["seconds"]) for r in rows]
    time = Panel(LEFT, "Time, s", x_range, (10 ** math.floor(math.log10(min(seconds))), 10 ** math.ceil(math.log10(max(seconds)))))
    memory = Panel(LEFT + 400, "Memory at the peak, MiB", x_range, (10, 1000))
    out = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDTH} {HEIGHT}" font-family="sans-serif" font-size="12">',
        f'<rect width="{WIDTH}" height="{HEIGHT}" fill="#fff"/>',
        *time.frame(),
        *memory.frame(),
    ]
    _, limit = memory.place(x_range[0], 400)
    out.append(f'<line x1="{memory.x}" y1="{limit:.1f}" x2="{memory.x + memory.width}" y2="{limit:.1f}" stroke="#999" stroke-dasharray="5 4"/>')
    out.append(f'<text x="{memory.x + 6}" y="{limit - 5:.1f}" fill="#666">400</text>')
    for i, command in enumerate(commands):
        colour = COLOURS[i % len(COLOURS)]
        mine = [r for r in rows if r["command"] == command]
        for panel, key in ((time, "seconds"), (memory, "mib")):
            points = [panel.place(float(r["cells"]), float(r[key])) for r in mine]
            path = " ".join(f"{x:.1f},{y:.1f}" for x, y in points)
            out.append(f'<polyline points="{path}" fill="none" stroke="{colour}" stroke-width="1.6"/>')
            out += [f'<circle cx="{x:.1f}" cy="{y:.1f}" r="2.6" fill="{colour}"/>' for x, y in points]
        y = TOP + 14 + 22 * i
        out.append(f'<line x1="{WIDTH - 148}" y1="{y - 4}" x2="{WIDTH - 124}" y2="{y - 4}" stroke="{colour}" stroke-width="2"/>')
        out.append(f'<text x="{WIDTH - 116}" y="{y}">{command}</text>')
    out.append("</svg>")
    open(sys.argv[2], "w").write("\n".join(out) + "\n")
    # How far from linear: the exponent between the two largest sizes, where the start no longer counts.
    for command in commands:
        mine = [r for r in rows if r["command"] == command][-2:]
        if len(mine) == 2:
            growth = float(mine[1]["seconds"]) / float(mine[0]["seconds"]) / (float(mine[1]["cells"]) / float(mine[0]["cells"]))
            print(f"{command:12} time grows {growth:.2f} x as the cells do; memory {mine[0]['mib']} -> {mine[1]['mib']} MiB")


if __name__ == "__main__":
    main()

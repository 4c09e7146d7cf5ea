#!/usr/bin/python3
"""Pictures of pages for docs/screenshots: page_shots.py FOLDER coverage.html view.html report.html

As a person would have them after a little work: an area with a tile raised, the surface turned with a section, the report's map
with a layer blended in.
"""
import os
import sys

sys.path.insert(0, os.path.join(os.path.dirname(os.path.abspath(__file__)), "..", "tests"))
from browser import Browser  # noqa: E402

REST = "setTimeout(arguments[0], 900)"


def save(browser, folder, name):
    browser.js_later(REST)
    with open(os.path.join(folder, name), "wb") as f:
        f.write(browser.png())


def main():
    folder, coverage, view, report = sys.argv[1:]
    browser = Browser(1280, 800)
    browser.open(coverage)
    at = browser.js("return window.katoptra.map.px(-30.9893, -37.5548)")
    browser.point("#map .above", at["x"], at["y"]).click().perform()
    save(browser, folder, "coverage.png")
    browser.open(view)
    browser.wait("!window.katoptra.page.cloud || document.documentElement.dataset.points")
    browser.js("""
        const {page, scene, asking} = window.katoptra;
        page.contours(5);
        for (const ground of [0, 1, 2, 9]) page.cloud?.switchClass(ground, false);
        scene.setView({...scene.view, bearing: 335, tilt: 34, distance: scene.view.distance * 0.62, x: -40, y: -20});
        page.take('section');
        asking.follow(page.facts.lines[0].points);
        page.panel.scrollTop = 0;""")
    browser.js_later(REST)
    browser.point("#drawer svg", 420, 90).perform()
    save(browser, folder, "view.png")
    browser.open(report)
    browser.js("document.querySelector('.asks').scrollIntoView(); document.querySelector('[data-layer=\"where it comes from\"]').click(); const r = document.querySelector('[data-layer=\"where it comes from\"]').closest('label').querySelector('[type=range]'); r.value = 0.55; r.dispatchEvent(new Event('input'))")
    browser.js_later(REST)
    at = browser.js("const {map, report} = window.katoptra; const p = report.facts.pins.find((q) => q.name === 'seam'); return map.px(p.at[0], -p.at[1])")
    browser.point("#map .above", at["x"], at["y"]).click().perform()
    save(browser, folder, "report.png")
    browser.quit()


main()

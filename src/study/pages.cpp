#include "pages.hpp"

#include <cmath>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/format.hpp"
#include "katoptra/formats/grid_file.hpp"
#include "katoptra/formats/vector_file.hpp"
#include "katoptra/water/water_products.hpp"

namespace katoptra {
namespace {

PagePin pin_of(const Finding& f, const Crs& crs) {
  MultiPolygon shape = f.place;
  if (f.crs && crs && !f.crs.same_place(crs)) shape = transformed(shape, Transform(f.crs, crs));
  return {.place = bounds_of(shape).centre(),
          .name = f.code,
          .text = f.message + (f.advice.empty() ? "" : ". " + f.advice),
          .tone = name_of(f.severity),
          .shape = std::move(shape)};
}

PagePin pin_of(const ControlResidual& r, LengthUnit unit) {
  PagePin pin{.place = r.here, .name = r.point.name, .text = {}, .tone = r.outlier ? "warning" : "control"};
  pin.text = std::isnan(r.residual)
                 ? fmt::format("known {:.3f} {}, no height here", r.known, symbol(unit))
                 : fmt::format("known {:.3f} {}, residual {:+.3f}", r.known, symbol(unit), r.residual);
  return pin;
}

}  // namespace

SurfacePage page_of_run(const Study& study, const StudyRun& run, const Grid& surface, const RunOptions& options) {
  SurfacePage p{.title = study.title, .run = options};
  const Crs& crs = surface.frame().crs();
  p.surfaces.push_back({.label = "surface", .grid = surface});
  // A reference may lie elsewhere, or count from another zero: the comparison has said so, the page goes without it.
  if (!study.reference.empty() && run.reference) try {
      Grid reference = open_grid(study.reference);
      const HeightReference &a = reference.quantity().heights, &b = surface.quantity().heights;
      if (!a.known() || !b.known() || a == b)
        p.surfaces.push_back({.label = study.reference.stem().string(), .grid = std::move(reference)});
    } catch (const Error&) {
    }
  for (const StudyProduct& product : study.products) {
    if (!product_named(product.kind) && !water_product_named(product.kind)) continue;
    try {
      if (!has_ending(product.file, ".tif")) continue;
      p.drapes.push_back({.label = product.title.empty() ? product.file : product.title,
                          .grid = open_grid(run.folder / product.file)});
    } catch (const Error&) {
      // It failed, and the report says so.
    }
  }
  for (const Finding& f : run.check.findings)
    if (!f.place.empty()) p.pins.push_back(pin_of(f, crs));
  if (run.control)
    for (const ControlResidual& r : run.control->rows) p.pins.push_back(pin_of(r, run.control->unit));
  for (const StudyProduct& product : study.products)
    if (product.kind == "section" && !product.line.empty()) {
      const std::string name = product.line.stem().string();
      bool known = false;
      for (const PageLine& l : p.lines) known = known || l.name == name;
      if (!known) p.lines.push_back({read_line(product.line, crs), name});
    }
  return p;
}

}  // namespace katoptra

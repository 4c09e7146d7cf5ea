// What is given of waters, what is left of laying them flat, and the way back.
#include <algorithm>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"
#include "katoptra/surface/clip.hpp"
#include "katoptra/water/flat_water.hpp"

#include "cell_set.hpp"

namespace katoptra {
namespace {

class RestoredSource final : public GridSource {
 public:
  RestoredSource(Grid flat, Grid before, Window place, GridInfo info, CellSet cells, std::uint32_t numbers)
      : flat_(std::move(flat)),
        before_(std::move(before)),
        place_(place),
        info_(std::move(info)),
        cells_(std::move(cells)),
        numbers_(numbers) {}
  const GridInfo& info() const override { return info_; }
  bool carries_uncertainty() const override { return flat_.carries_uncertainty() && before_.carries_uncertainty(); }
  void read(const BlockView& out) const override {
    flat_.read_into(out);
    cells_.within(out.window, [&](const CellRun& run, std::size_t) {
      BlockView part = out.part({run.first, run.row, run.last - run.first, 1});
      part.window.col -= place_.col;
      part.window.row -= place_.row;
      before_.read_into(part);
      if (!part.origin) return;
      for (std::int64_t c = 0; c < part.window.cols; ++c)
        if (Origin& o = part.origin[c]; o != 0) o = origin_code(source_of(o) + numbers_, how_of(o));
    });
  }

 private:
  Grid flat_, before_;
  Window place_;
  GridInfo info_;
  CellSet cells_;
  std::uint32_t numbers_;
};

void require_same_heights(const Grid& flat, const Grid& before) {
  const Quantity &a = flat.quantity(), &b = before.quantity();
  if (a.unit == b.unit && (a.heights == b.heights || !b.heights.known())) return;
  throw Error(ErrorCode::Refused,
              fmt::format("its heights are in {} above {}, those of the surface in {} above {}", unit_name(b),
                          b.heights.name(), unit_name(a), a.heights.name()),
              before.info().name, "give the file that was written when the water was laid flat");
}

}  // namespace

std::vector<WaterBody> water_bodies_of(const Layer& layer, const Grid& surface, WaterKind usual) {
  const Crs& crs = surface.frame().crs();
  std::vector<WaterBody> out;
  for (const Feature& f : layer.features) {
    const auto* shape = std::get_if<MultiPolygon>(&f.geometry);
    if (!shape)
      throw Error(ErrorCode::BadArgument, "water is given as areas, but this holds points or lines", layer.name,
                  "give the polygons of lakes and rivers");
    WaterBody b{.shape = layer.crs && crs ? shape_on(surface.frame(), Area(*shape, layer.crs)) : *shape, .kind = usual};
    if (const Property* kind = property_of(f, "kind")) b.kind = parse_water_kind(text_of(*kind));
    if (const Property* name = property_of(f, "name")) b.name = text_of(*name);
    if (const Property* level = property_of(f, "level"); level && b.kind != WaterKind::River) {
      const Property* unit = property_of(f, "unit");
      const std::string text = text_of(*level) + (unit ? text_of(*unit) : "");
      b.level = Length::parse(text, surface.quantity().unit).in(surface.quantity().unit);
    }
    out.push_back(std::move(b));
  }
  if (out.empty())
    throw Error(ErrorCode::BadArgument, "holds no bodies of water", layer.name, "give a file with their polygons");
  return out;
}

Layer water_layer(const FlatWater& flat, const Grid& surface) {
  Layer layer{.name = "water", .crs = surface.frame().crs(), .features = {}};
  for (const LaidBody& b : flat.bodies) {
    if (b.cells == 0) continue;
    layer.features.push_back({b.shape,
                              {{"kind", name_of(b.kind)},
                               {"name", b.name},
                               {"level", b.level},
                               {"highest", b.highest},
                               {"unit", unit_name(surface.quantity())},
                               {"level_by", b.by},
                               {"area_m2", b.area},
                               {"cells", b.cells},
                               {"voids", b.voids},
                               {"raised", b.raised},
                               {"lowered", b.lowered}}});
  }
  return layer;
}

Grid restored(const Grid& flat, const std::vector<WaterBody>& record, const Grid& before) {
  const auto place = flat.frame().window_of(before.frame());
  if (!place)
    throw Error(ErrorCode::Refused, "does not lie on the cells of the surface", before.info().name,
                "give the file that was written when the water was laid flat");
  require_same_heights(flat, before);
  std::vector<CellRun> runs;
  for (const WaterBody& b : record) {
    const CellMask mask(b.shape, flat.frame());
    const Window w = mask.extent();
    for (std::int64_t r = w.row; r < w.row + w.rows; ++r)
      for (const auto& [first, last] : mask.spans(r)) runs.push_back({r, first, last});
  }
  if (runs.empty())
    throw Error(ErrorCode::BadArgument, "no cell of the surface lies inside the record", flat.info().name,
                "give the record that was written when its water was laid flat");
  GridInfo info = flat.info();
  const auto numbers = static_cast<std::uint32_t>(info.sources.size());
  info.sources.insert(info.sources.end(), before.info().sources.begin(), before.info().sources.end());
  return Grid(std::make_shared<RestoredSource>(flat, before, *place, std::move(info), CellSet(joined(std::move(runs))),
                                               numbers));
}

}  // namespace katoptra

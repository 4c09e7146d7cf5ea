// From one vertical reference to another: how much a height changes, place by place.
//
//   const Crs utm = Crs::parse("EPSG:32725");
//   VerticalTransform down(utm, HeightReference::ellipsoid(), HeightReference::parse("EGM96"), area.in(utm).bounds());
//   down.shifts(points, metres);        // to be added to a height above the ellipsoid
//
// Stands on PROJ's grids. Where the best operation needs a grid that is not installed, the next one that is stated with
// an accuracy is taken and named by `description`; when there is none, the error names the missing grid. A shift that
// PROJ only guesses ("ballpark") is never used. Thread-safe.
#pragma once
#include <memory>
#include <optional>
#include <span>
#include <string>

#include "katoptra/base/units.hpp"
#include "katoptra/geo/crs.hpp"

namespace katoptra {

class VerticalTransform {
 public:
  // `area`: where it will be used, in `horizontal`; empty bounds for everywhere.
  // MissingResource, naming the grid, or when nothing is known between the two; Refused when one of them is unknown or
  // a mere name.
  VerticalTransform(const Crs& horizontal, const HeightReference& from, const HeightReference& to, const Bounds& area);
  bool is_identity() const;
  // "EGM96 height to WGS 84 (1)": PROJ's name of the operation, with its stated accuracy in metres when it has one.
  const std::string& description() const;
  // PROJ's stated accuracy; nothing when it states none.
  std::optional<Length> accuracy() const;
  // Metres to add at each place; NaN beyond the model's reach.
  void shifts(std::span<const Point> places, std::span<double> metres) const;

 private:
  struct Impl;
  std::shared_ptr<Impl> impl_;
};

}  // namespace katoptra

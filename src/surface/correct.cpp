#include "katoptra/surface/correct.hpp"

#include <cmath>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"
#include "katoptra/surface/reproject.hpp"

#include "grid/planes.hpp"

namespace katoptra {
namespace {

class TiltedSource final : public GridSource {
 public:
  TiltedSource(Grid input, GridInfo info, const Correction& c, Point pivot)
      : input_(std::move(input)), info_(std::move(info)), factor_(c.factor), pivot_(pivot) {
    const double unit = metres_per(info_.quantity.unit);
    offset_ = c.offset.metres() / unit;
    error_ = c.error.metres() / unit;
    // A tilt is a plane in the coordinates of the frame: the scale at the pivot holds for all of it.
    const GroundScale scale = info_.frame.crs() ? GroundRuler(info_.frame.crs()).at(pivot) : GroundScale{};
    rise_x_ = c.tilt_x * scale.x / unit;
    rise_y_ = c.tilt_y * scale.y / unit;
  }
  const GridInfo& info() const override { return info_; }
  bool carries_uncertainty() const override { return input_.carries_uncertainty(); }

  void read(const BlockView& out) const override {
    input_.read_into(out);
    const Window& w = out.window;
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (std::int64_t c = 0; c < w.cols; ++c) {
        const Point p = info_.frame.centre(static_cast<double>(w.col + c), static_cast<double>(w.row + r));
        const double add = offset_ + rise_x_ * (p.x - pivot_.x) + rise_y_ * (p.y - pivot_.y);
        out.row(r)[c] = static_cast<float>(static_cast<double>(out.row(r)[c]) * factor_ + add);
      }
    scale_uncertainty(out, factor_);
    add_variance(out, error_);
  }

 private:
  Grid input_;
  GridInfo info_;
  double factor_, offset_ = 0, error_ = 0, rise_x_ = 0, rise_y_ = 0;
  Point pivot_;
};

// The shift, told in another CRS, as it is at the middle of the grid.
Point shift_in(const Correction& c, const Frame& frame) {
  if (!c.crs || !frame.crs() || c.crs.same_place(frame.crs())) return c.shift;
  const Transform there(frame.crs(), c.crs);
  const Point here = frame.bounds().centre(), p = there.forward(here),
              moved = there.inverse({p.x + c.shift.x, p.y + c.shift.y});
  return {moved.x - here.x, moved.y - here.y};
}

// The grid turned about a place of its CRS, by an angle on the ground, on the cells of its own lattice that it touches
// then.
Grid turned_about(const Grid& grid, Point pivot, Angle by) {
  const Frame& f = grid.frame();
  const GroundScale s = f.crs() ? GroundRuler(f.crs()).at(pivot) : GroundScale{};
  const double c = std::cos(by.radians()), n = std::sin(by.radians());
  // Of a step in the coordinates of the frame, which need not be as long to the east as to the north.
  const auto turn = [&](Point p) { return Point{c * p.x - n * p.y * s.y / s.x, n * p.x * s.x / s.y + c * p.y}; };
  const Point corner = turn({f.west() - pivot.x, f.north() - pivot.y});
  const SkewLattice l{{pivot.x + corner.x, pivot.y + corner.y}, turn({f.cell().x, 0}), turn({0, -f.cell().y})};
  const Frame around = upright_frame(f.crs(), l, f.cols(), f.rows());
  return straightened(grid, l, f.sub(f.window_of_centres(around.bounds())));
}

Point pivot_in(const Correction& c, const Frame& frame) {
  const bool here = !c.crs || !frame.crs() || c.crs.same_place(frame.crs());
  const Point p = here ? c.pivot : Transform(c.crs, frame.crs()).forward(c.pivot);
  // Longitudes of both may be told from either side of the antimeridian.
  return {frame.told_here(p.x), p.y};
}

}  // namespace

bool Correction::does_nothing() const {
  return factor == 1 && offset == Length() && shift == Point() && tilt_x == 0 && tilt_y == 0 && rotation == Angle();
}

std::string Correction::text(LengthUnit unit) const {
  std::string t;
  auto add = [&](const std::string& part) { t += (t.empty() ? "" : "; ") + part; };
  if (factor != 1) add(fmt::format("heights times {:.7g}", factor));
  if (!(shift == Point())) {
    const bool degrees = crs.is_geographic();
    add(fmt::format("moved by {:.{}f} east, {:.{}f} north ({})", shift.x, degrees ? 9 : 4, shift.y, degrees ? 9 : 4,
                    crs ? crs.unit_name() : "units of its CRS"));
  }
  if (rotation != Angle())
    add(fmt::format("turned by {:+.6g} degrees about {:.10g}, {:.10g}", rotation.degrees(), pivot.x, pivot.y));
  if (offset != Length())
    add(fmt::format("{:+.4f} {} everywhere{}", offset.in(unit), symbol(unit),
                    error > Length() ? fmt::format(", give or take {:.4f}", error.in(unit)) : ""));
  if (tilt_x != 0 || tilt_y != 0)
    add(fmt::format("tilted by {:+.3e} to the east, {:+.3e} to the north about {:.10g}, {:.10g}", tilt_x, tilt_y,
                    pivot.x, pivot.y));
  return t;
}

Grid corrected(const Grid& grid, const Correction& c) {
  const std::string& name = grid.info().name;
  if (grid.quantity().kind != QuantityKind::Height)
    throw Error(ErrorCode::BadArgument, fmt::format("holds {}, not heights", name_of(grid.quantity().kind)), name,
                "corrections belong to heights");
  if (c.does_nothing())
    throw Error(ErrorCode::BadArgument, "the correction changes nothing", name,
                "give an offset, a shift, a tilt or a factor");
  const std::string done = c.text(grid.quantity().unit);
  const Frame& f = grid.frame();
  const Point shift = shift_in(c, f);
  if (c.rotation != Angle() && !(std::abs(c.rotation.degrees()) <= 360))
    throw Error(ErrorCode::BadArgument, fmt::format("cannot be turned by {:g} degrees", c.rotation.degrees()), name,
                "give an angle below a full turn");
  const double offset = c.offset.in(grid.quantity().unit);
  const bool tilted = c.tilt_x != 0 || c.tilt_y != 0;
  const auto change = [&](GridInfo& info) {
    info.frame = Frame(f.crs(), f.west() + shift.x, f.north() + shift.y, f.cell(), f.cols(), f.rows());
    info.notes.push_back(fmt::format("{}: corrected, {}", name, done));
    for (SourceRecord& s : info.sources) s.treatment += (s.treatment.empty() ? "" : ", ") + ("corrected: " + done);
    if (is_integer(grid.info().type) && (c.factor != 1 || tilted || offset != std::round(offset))) {
      info.notes.push_back(
          fmt::format("{}: {} heights changed by fractions become float32", name, name_of(grid.info().type)));
      info.type = SampleType::Float32;
      info.file_void.reset();
    }
  };
  const bool unsure = c.error > Length() && grid.carries_uncertainty();
  Grid moved;
  if (tilted || unsure) {
    GridInfo info = grid.info();
    change(info);
    moved = Grid(std::make_shared<TiltedSource>(grid, info, c, pivot_in(c, info.frame)));
  } else {
    moved = scaled(grid, c.factor, offset, change);
  }
  return c.rotation == Angle() ? moved : turned_about(moved, pivot_in(c, moved.frame()), c.rotation);
}

}  // namespace katoptra

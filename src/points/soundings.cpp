#include "katoptra/points/soundings.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"
#include "katoptra/grid/uncertainty.hpp"
#include "katoptra/points/gridding.hpp"

#include "buckets.hpp"

namespace katoptra {
namespace {

constexpr double kReach = 3;  // spacings

constexpr const char* kOrderNames[] = {"exclusive order", "special order", "order 1", "order 2"};

// What each allows, from the one table of the standard that a stated uncertainty is read by too.
const UncertaintyModel& allowed_by(S44Order order) {
  static const UncertaintyModel kAllowed[] = {parse_uncertainty("s44 exclusive"), parse_uncertainty("s44 special"),
                                              parse_uncertainty("s44 1a"), parse_uncertainty("s44 2")};
  return kAllowed[static_cast<int>(order)];
}

// Points in squares as wide as they are looked for, in an order of their own: sums do not depend on the window.
class Squares {
 public:
  Squares(std::vector<StoredPoint> points, const Bounds& box, double reach)
      : points_(std::move(points)), box_(box), reach_(reach) {
    std::sort(points_.begin(), points_.end());
    cols_ = static_cast<std::int64_t>(box.width() / reach) + 1;
    squares_.resize(static_cast<std::size_t>(cols_ * (static_cast<std::int64_t>(box.height() / reach) + 2)));
    for (std::size_t i = 0; i < points_.size(); ++i)
      if (const auto k = static_cast<std::size_t>(square_of(points_[i].x, points_[i].y)); k < squares_.size())
        squares_[k].push_back(static_cast<std::uint32_t>(i));
  }
  // `near` is room to work in.
  void within_reach(double x, double y, std::vector<std::uint32_t>& near, std::vector<StoredPoint>& out) const {
    near.clear();
    for (std::int64_t dr = -1; dr <= 1; ++dr)
      for (std::int64_t dc = -1; dc <= 1; ++dc) {
        const std::int64_t k = square_of(x, y) + dr * cols_ + dc;
        if (k < 0 || k >= static_cast<std::int64_t>(squares_.size())) continue;
        const auto& square = squares_[static_cast<std::size_t>(k)];
        near.insert(near.end(), square.begin(), square.end());
      }
    std::sort(near.begin(), near.end());
    near.erase(std::unique(near.begin(), near.end()), near.end());
    out.clear();
    for (std::uint32_t i : near) {
      const double dx = points_[i].x - x, dy = points_[i].y - y;
      if (dx * dx + dy * dy <= reach_ * reach_) out.push_back(points_[i]);
    }
  }

 private:
  std::int64_t square_of(double x, double y) const {
    return static_cast<std::int64_t>((box_.north - y) / reach_) * cols_ +
           static_cast<std::int64_t>((x - box_.west) / reach_);
  }
  std::vector<StoredPoint> points_;
  Bounds box_;
  double reach_;
  std::int64_t cols_ = 1;
  std::vector<std::vector<std::uint32_t>> squares_;
};

// Standard deviation of heights about the plane that fits them best; places in units of the reach, from the cell.
double about_plane(const std::vector<std::array<double, 3>>& p) {
  double m[3][4] = {};
  for (const auto& q : p) {
    const double v[3] = {1, q[0], q[1]};
    for (int i = 0; i < 3; ++i) {
      for (int k = 0; k < 3; ++k) m[i][k] += v[i] * v[k];
      m[i][3] += v[i] * q[2];
    }
  }
  for (int i = 0; i < 3; ++i) {
    int best = i;
    for (int r = i + 1; r < 3; ++r)
      if (std::abs(m[r][i]) > std::abs(m[best][i])) best = r;
    if (std::abs(m[best][i]) < 1e-9) return std::nan("");  // all on one line
    std::swap_ranges(m[i], m[i] + 4, m[best]);
    for (int r = 0; r < 3; ++r) {
      if (r == i) continue;
      const double f = m[r][i] / m[i][i];
      for (int k = i; k < 4; ++k) m[r][k] -= f * m[i][k];
    }
  }
  double sum = 0;
  for (const auto& q : p) {
    const double d = q[2] - m[0][3] / m[0][0] - m[1][3] / m[1][1] * q[0] - m[2][3] / m[2][2] * q[1];
    sum += d * d;
  }
  return std::sqrt(sum / static_cast<double>(p.size() - 3));
}

class UncertaintySource : public GridSource {
 public:
  // `times`: what a standard deviation is multiplied with.
  UncertaintySource(const PointCloud& cloud, const Frame& frame, double times, const RunOptions& run)
      : buckets_(cloud, frame, 256, run), times_(times) {
    info_.frame = frame;
    info_.quantity = cloud.info().quantity;
    info_.quantity.kind = QuantityKind::Uncertainty;
    info_.quantity.other_unit = symbol(cloud.info().quantity.unit);
    info_.name = "uncertainty";
    info_.sources = cloud.info().sources;
    spacing_ = buckets_.spacing().metres() / buckets_.lattice().metres;
  }
  const GridInfo& info() const override { return info_; }
  Length spacing() const { return buckets_.spacing(); }
  void read(const BlockView& out) const override {
    const PlaceLattice& l = buckets_.lattice();
    const Frame& f = info_.frame;
    const double reach = kReach * spacing_;
    auto x_of = [&](std::int64_t c) { return l.at_x(f.centre(static_cast<double>(c), 0).x); };
    auto y_of = [&](std::int64_t r) { return l.at_y(f.centre(0, static_cast<double>(r)).y); };
    const Window& w = out.window;
    const Bounds box{x_of(w.col) - reach, y_of(w.row + w.rows - 1) - reach, x_of(w.col + w.cols - 1) + reach,
                     y_of(w.row) + reach};
    const Squares squares(buckets_.in_box(box.west, box.south, box.east, box.north), box, reach);
    std::vector<std::uint32_t> room;
    std::vector<StoredPoint> near;
    std::vector<std::array<double, 3>> fit;
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (std::int64_t c = 0; c < w.cols; ++c) {
        const double x = x_of(w.col + c), y = y_of(w.row + r);
        squares.within_reach(x, y, room, near);
        fit.clear();
        double nearest2 = std::numeric_limits<double>::infinity();
        for (const StoredPoint& p : near) {
          const double dx = p.x - x, dy = p.y - y;
          nearest2 = std::min(nearest2, dx * dx + dy * dy);
          fit.push_back({dx / reach, dy / reach, p.z});
        }
        out.row(r)[c] =
            static_cast<int>(fit.size()) < kFewestSoundings
                ? kVoid
                : static_cast<float>(times_ * about_plane(fit) * std::sqrt(1 + nearest2 / (spacing_ * spacing_)));
        if (Origin* o = out.origin_row(r)) o[c] = std::isnan(out.row(r)[c]) ? 0 : origin_code(1, How::Interpolated);
      }
  }

 private:
  PointBuckets buckets_;
  GridInfo info_;
  double times_, spacing_ = 1;
};

}  // namespace

Grid sounding_uncertainty(const PointCloud& soundings, const Frame& frame, const RunOptions& run) {
  return Grid(std::make_shared<UncertaintySource>(soundings, frame, kTwoSided95, run));
}

Grid with_point_uncertainty(const Grid& made, const PointCloud& points, const RunOptions& run) {
  if (made.quantity().kind != QuantityKind::Height)
    throw Error(ErrorCode::BadArgument, fmt::format("holds {}, not heights", name_of(made.quantity().kind)),
                made.info().name, "ask for it with heights");
  const auto source = std::make_shared<UncertaintySource>(points, made.frame(), kOfSpread, run);
  return with_error_reach(with_uncertainty(made, Grid(source)), source->spacing());
}

const char* name_of(S44Order order) {
  return order == S44Order::None ? "no order" : kOrderNames[static_cast<int>(order)];
}

Length s44_allows(S44Order order, Length depth) {
  if (order == S44Order::None) return Length::metres(std::numeric_limits<double>::infinity());
  const UncertaintyModel& o = allowed_by(order);
  return Length::metres(std::hypot(o.constant.metres(), o.per_depth * depth.metres()));
}

S44Order s44_order(Length uncertainty, Length depth) {
  for (S44Order o : {S44Order::Exclusive, S44Order::Special, S44Order::One, S44Order::Two})
    if (uncertainty <= s44_allows(o, depth)) return o;
  return S44Order::None;
}

S44Shares s44_shares(const Grid& uncertainty, const Grid& heights, const RunOptions& run) {
  const auto at = heights.frame().window_of(uncertainty.frame());
  if (!at)
    throw Error(ErrorCode::BadArgument, "the uncertainty and the sea floor do not share a lattice",
                uncertainty.info().name, "make both of the same cells");
  S44Shares s;
  const double unit = metres_per(heights.quantity().unit);
  for_each_band(heights, Planes::Values, run, [&](const Block& b) {
    Window w = b.window();
    w.col -= at->col;
    w.row -= at->row;
    const Block u = uncertainty.read(w);
    for (std::int64_t r = 0; r < w.rows; ++r)
      for (std::int64_t c = 0; c < w.cols; ++c) {
        const float z = b.at(c, r), e = u.at(c, r);
        if (std::isnan(z) || z >= 0) continue;
        ++s.all;
        const S44Order o =
            std::isnan(e) ? S44Order::None : s44_order(Length::metres(e * unit), Length::metres(-z * unit));
        ++s.cells[static_cast<std::size_t>(o)];
      }
  });
  return s;
}

}  // namespace katoptra

#include "buckets.hpp"

#include <algorithm>
#include <cmath>
#include <utility>

#include "shared_points.hpp"

namespace katoptra {

PlaceLattice PlaceLattice::choose(const PointInfo& info, const Frame& frame, std::int64_t tile) {
  PlaceLattice l;
  const GroundScale scale = frame.crs() ? GroundRuler(frame.crs()).at(frame.bounds().centre()) : GroundScale{};
  const bool square = std::abs(scale.x / scale.y - 1) < 1e-3;
  const double extent =
      std::max(frame.bounds().width(), frame.bounds().height()) + 4 * std::max(frame.cell().x, frame.cell().y);
  if (square && info.lattice && info.lattice->step[0] == info.lattice->step[1] && info.lattice->step[0] > 0 &&
      extent / info.lattice->step[0] < 1e9) {
    l.step_x = l.step_y = info.lattice->step[0];
    // A whole number of steps from the file's origin, near the middle of the frame.
    const Point c = frame.bounds().centre();
    l.origin_x = info.lattice->origin[0] + std::round((c.x - info.lattice->origin[0]) / l.step_x) * l.step_x;
    l.origin_y = info.lattice->origin[1] + std::round((c.y - info.lattice->origin[1]) / l.step_y) * l.step_y;
  } else {
    // A tile and what lies around it must be told in 26 bits, all points in 31.
    const double edge = static_cast<double>(tile) * std::max(frame.cell().x, frame.cell().y);
    l.step_y = std::exp2(std::ceil(std::log2(std::max(extent / 0x1p29, edge / 0x1p22))));
    l.step_x = square ? l.step_y : l.step_y * scale.y / scale.x;
    l.origin_x = frame.bounds().centre().x;
    l.origin_y = frame.bounds().centre().y;
  }
  l.metres = l.step_y * scale.y;
  return l;
}

PointBuckets::PointBuckets(const PointCloud& cloud, const Frame& frame, std::int64_t tile, const RunOptions& run)
    : lattice_(PlaceLattice::choose(cloud.info(), frame, tile)),
      tile_(tile),
      buckets_(run.memory / 4, cloud.info().name, CommonFolder::made(run, cloud.info().name)) {
  cols_ = (frame.cols() + tile - 1) / tile + 2;
  rows_ = (frame.rows() + tile - 1) / tile + 2;
  tile_x_ = static_cast<double>(tile) * frame.cell().x / lattice_.step_x;
  tile_y_ = static_cast<double>(tile) * frame.cell().y / lattice_.step_y;
  west_ = lattice_.at_x(frame.west()) - tile_x_;
  north_ = lattice_.at_y(frame.north()) + tile_y_;
  marks_.assign(static_cast<std::size_t>(cols_ * rows_) * kMarkWords, 0);
  // Squares that do not depend on the tiles, about four points wide, and no more than a few million of them.
  squares_west_ = lattice_.at_x(frame.west());
  squares_north_ = lattice_.at_y(frame.north());
  on_frame_ = {std::round(squares_west_), std::round(lattice_.at_y(frame.south())),
               std::round(lattice_.at_x(frame.east())), std::round(squares_north_)};
  const double wide = lattice_.at_x(frame.east()) - squares_west_, high = squares_north_ - lattice_.at_y(frame.south());
  square_ = std::max({2 * std::sqrt(wide * high / static_cast<double>(std::max<std::uint64_t>(cloud.info().count, 1))),
                      wide / 2048, high / 2048, 1e-9});
  square_cols_ = static_cast<std::int64_t>(wide / square_) + 1;
  square_rows_ = static_cast<std::int64_t>(high / square_) + 1;
  squares_.assign(static_cast<std::size_t>(square_cols_ * square_rows_), 0);
  // A header may lie: half a step of the integers may be between a point and the box as it was printed.
  const double slack =
      cloud.info().lattice ? std::max(cloud.info().lattice->step[0], cloud.info().lattice->step[1]) : 1e-6;
  const Bounds declared = cloud.info().bounds.grown(slack);
  // Parts that lie beyond the ring need not be read; one cell more, for rounding.
  const double reach = static_cast<double>(tile + 1);
  const Bounds all = frame.bounds();
  const PointCloud near = parts_near(cloud, {all.west - reach * frame.cell().x, all.south - reach * frame.cell().y,
                                             all.east + reach * frame.cell().x, all.north + reach * frame.cell().y});
  Pool<Seen> pool;
  sort_points<StoredPoint, Told>(
      near, run, buckets_,
      [&](std::size_t part, const PointBatch& b, HeapBatch<StoredPoint>& into) {
        Told told;
        const std::uint32_t source = near.part(part).source;
        for (std::size_t i = 0; i < b.size(); ++i) {
          const double x = std::round(lattice_.at_x(b.x[i])), y = std::round(lattice_.at_y(b.y[i]));
          const std::int64_t c = col_of(x), r = row_of(y);
          if (!declared.contains({b.x[i], b.y[i]})) ++told.beyond;
          if (c < 0 || c >= cols_ || r < 0 || r >= rows_ || !std::isfinite(b.z[i])) {
            ++told.outside;
            continue;
          }
          into.add(static_cast<std::uint64_t>(r * cols_ + c),
                   {static_cast<std::int32_t>(x), static_cast<std::int32_t>(y), static_cast<float>(b.z[i]), source});
        }
        Seen seen = pool.take([&] { return Seen(squares_.size(), false); });
        for (std::uint64_t k : into.order()) note(into.records(k), k, seen, told);
        for (std::uint32_t square : told.squares) seen[square] = false;
        pool.give(std::move(seen));
        return told;
      },
      [&](const Told& told) { take(told); });
}

std::int64_t PointBuckets::col_of(double x) const {
  return static_cast<std::int64_t>(std::floor((x - west_) / tile_x_));
}
std::int64_t PointBuckets::row_of(double y) const {
  return static_cast<std::int64_t>(std::floor((north_ - y) / tile_y_));
}

// Where points lie, roughly, and how many there are.
void PointBuckets::note(const std::vector<StoredPoint>& points, std::uint64_t k, Seen& seen, Told& told) const {
  told.points += points.size();
  const double west = west_ + static_cast<double>(static_cast<std::int64_t>(k) % cols_) * tile_x_,
               north = north_ - static_cast<double>(static_cast<std::int64_t>(k) / cols_) * tile_y_;
  told.buckets.push_back(k);
  told.marks.resize(told.marks.size() + kMarkWords, 0);
  std::uint64_t* marks = told.marks.data() + told.marks.size() - kMarkWords;
  for (const StoredPoint& p : points) {
    const double right = (p.x - squares_west_) / square_, down = (squares_north_ - p.y) / square_;
    if (on_frame_.contains({static_cast<double>(p.x), static_cast<double>(p.y)})) {
      ++told.inside;
      told.box.include(Point{static_cast<double>(p.x), static_cast<double>(p.y)});
      const auto c = std::clamp<std::int64_t>(static_cast<std::int64_t>(right), 0, square_cols_ - 1),
                 r = std::clamp<std::int64_t>(static_cast<std::int64_t>(down), 0, square_rows_ - 1);
      const auto square = static_cast<std::size_t>(r * square_cols_ + c);
      if (!seen[square]) told.squares.push_back(static_cast<std::uint32_t>(square));
      seen[square] = true;
    }
    const int c = std::clamp(static_cast<int>((p.x - west) / tile_x_ * kMarks), 0, kMarks - 1),
              r = std::clamp(static_cast<int>((north - p.y) / tile_y_ * kMarks), 0, kMarks - 1);
    marks[(r * kMarks + c) / 64] |= std::uint64_t{1} << (r * kMarks + c) % 64;
  }
}

void PointBuckets::take(const Told& told) {
  points_ += told.points;
  inside_ += told.inside;
  outside_ += told.outside;
  beyond_ += told.beyond;
  box_.include(told.box);
  for (std::size_t i = 0; i < told.marks.size(); ++i)
    marks_[static_cast<std::size_t>(told.buckets[i / kMarkWords]) * kMarkWords + i % kMarkWords] |= told.marks[i];
  for (std::uint32_t square : told.squares) squares_[square] = 1;
}

// Columns and rows of marks.
bool PointBuckets::is_marked(std::int64_t c, std::int64_t r) const {
  const auto bucket = static_cast<std::size_t>(r / kMarks * cols_ + c / kMarks);
  const std::int64_t within = r % kMarks * kMarks + c % kMarks;
  return marks_[bucket * kMarkWords + static_cast<std::size_t>(within / 64)] >> (within % 64) & 1;
}

std::vector<StoredPoint> PointBuckets::in_box(double west, double south, double east, double north) const {
  std::vector<StoredPoint> out, bucket;
  const std::int64_t c0 = std::max<std::int64_t>(0, col_of(west)), c1 = std::min(cols_ - 1, col_of(east)),
                     r0 = std::max<std::int64_t>(0, row_of(north)), r1 = std::min(rows_ - 1, row_of(south));
  for (std::int64_t r = r0; r <= r1; ++r)
    for (std::int64_t c = c0; c <= c1; ++c) {
      bucket.clear();
      buckets_.read(static_cast<std::uint64_t>(r * cols_ + c), bucket);
      for (const StoredPoint& p : bucket)
        if (p.x >= west && p.x <= east && p.y >= south && p.y <= north) out.push_back(p);
    }
  return out;
}

bool PointBuckets::may_hold(double x, double y, double radius, const Bounds& except) const {
  const double mark_x = tile_x_ / kMarks, mark_y = tile_y_ / kMarks;
  const auto c0 = std::max<std::int64_t>(
                 0, static_cast<std::int64_t>(std::floor(std::max(-1.0, (x - radius - west_) / mark_x)))),
             r0 = std::max<std::int64_t>(
                 0, static_cast<std::int64_t>(std::floor(std::max(-1.0, (north_ - y - radius) / mark_y))));
  const auto c1 = static_cast<std::int64_t>(
                 std::floor(std::min(static_cast<double>(cols_ * kMarks - 1), (x + radius - west_) / mark_x))),
             r1 = static_cast<std::int64_t>(
                 std::floor(std::min(static_cast<double>(rows_ * kMarks - 1), (north_ - y + radius) / mark_y)));
  for (std::int64_t r = r0; r <= r1; ++r)
    for (std::int64_t c = c0; c <= c1; ++c) {
      if (!is_marked(c, r)) continue;
      const Bounds square{west_ + static_cast<double>(c) * mark_x, north_ - static_cast<double>(r + 1) * mark_y,
                          west_ + static_cast<double>(c + 1) * mark_x, north_ - static_cast<double>(r) * mark_y};
      if (square.west >= except.west && square.east <= except.east && square.south >= except.south &&
          square.north <= except.north)
        continue;
      const double dx = std::max({square.west - x, 0.0, x - square.east}),
                   dy = std::max({square.south - y, 0.0, y - square.north});
      if (dx * dx + dy * dy < radius * radius) return true;
    }
  return false;
}

double PointBuckets::widest_gap(const Bounds& box) const {
  const double mark_x = tile_x_ / kMarks, mark_y = tile_y_ / kMarks;
  const auto at = [](double v, std::int64_t n) {
    return std::clamp<std::int64_t>(static_cast<std::int64_t>(std::floor(v)), 0, n - 1);
  };
  const std::int64_t c0 = at((box.west - west_) / mark_x, cols_ * kMarks),
                     c1 = at((box.east - west_) / mark_x, cols_ * kMarks),
                     r0 = at((north_ - box.north) / mark_y, rows_ * kMarks),
                     r1 = at((north_ - box.south) / mark_y, rows_ * kMarks);
  // The square without a point that ends at each mark (its side, in marks) from those beside it.
  std::vector<int> above(static_cast<std::size_t>(c1 - c0 + 1), 0);
  int most = 0;
  for (std::int64_t r = r0; r <= r1; ++r) {
    int before = 0, diagonal = 0;
    for (std::int64_t c = c0; c <= c1; ++c) {
      int& here = above[static_cast<std::size_t>(c - c0)];
      const int side = is_marked(c, r) ? 0 : 1 + std::min({here, before, diagonal});
      diagonal = std::exchange(here, side);
      before = side;
      most = std::max(most, side);
    }
  }
  return most == 0 ? 0 : (most + 1) * std::max(mark_x, mark_y);
}

bool PointBuckets::covers_all(const Bounds& box) const {
  return box.west <= west_ && box.north >= north_ && box.east >= west_ + static_cast<double>(cols_) * tile_x_ &&
         box.south <= north_ - static_cast<double>(rows_) * tile_y_;
}

Length PointBuckets::spacing() const {
  if (inside_ == 0) return {};
  // Squares that hold many points tell the area that has points; from fine to coarse.
  std::vector<std::uint8_t> held = squares_;
  std::int64_t cols = square_cols_, rows = square_rows_;
  for (double area = square_ * square_ * lattice_.metres * lattice_.metres;; area *= 4) {
    const auto n = static_cast<double>(std::count(held.begin(), held.end(), std::uint8_t{1}));
    if (static_cast<double>(inside_) >= 16 * n || (cols <= 1 && rows <= 1))
      return Length::metres(std::sqrt(std::min(n * area, box_area()) / static_cast<double>(inside_)));
    const std::int64_t half_cols = (cols + 1) / 2, half_rows = (rows + 1) / 2;
    std::vector<std::uint8_t> coarse(static_cast<std::size_t>(half_cols * half_rows), 0);
    for (std::int64_t r = 0; r < rows; ++r)
      for (std::int64_t c = 0; c < cols; ++c)
        coarse[static_cast<std::size_t>(r / 2 * half_cols + c / 2)] |= held[static_cast<std::size_t>(r * cols + c)];
    held.swap(coarse);
    cols = half_cols;
    rows = half_rows;
  }
}

// The area of the box around the points of the frame, in square metres.
double PointBuckets::box_area() const {
  return std::max((box_.width() + 1) * (box_.height() + 1), 1.0) * lattice_.metres * lattice_.metres;
}

}  // namespace katoptra

// First less second. The second is brought to the unit, reference and CRS of the first, both to the coarser of
// their cells (finer ones are averaged, for their noise is not the others'), and one pass in bands gathers
// everything: differences by class of slope, aspect, land and source, sums for volumes, patches whose spread tells the
// uncertainty of a volume, and cells beyond the level of detection. Rows are joined in order. Shift and tilt are found
// before it by least squares on the slopes (coregister.cpp).
#include "katoptra/check/compare.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>

#include "katoptra/base/error.hpp"
#include "katoptra/base/parallel.hpp"
#include "katoptra/grid/turn.hpp"
#include "katoptra/grid/uncertainty.hpp"
#include "katoptra/surface/clip.hpp"
#include "katoptra/surface/heights.hpp"
#include "katoptra/surface/reproject.hpp"

#include "correlation.hpp"
#include "difference_rows.hpp"
#include "overlaps.hpp"
#include "remembered_reads.hpp"
#include "shift_places.hpp"
#include "terrain/gradients.hpp"

namespace katoptra {
namespace {

constexpr double kMeanFromHere = 1.5;
constexpr std::size_t kWantedAgainShare = 12;  // of the memory, for places of each surface that are wanted again
constexpr double kStandsOff = 4;               // robust deviations from the median: beyond, the ground has changed

class DifferenceSource final : public GridSource {
 public:
  DifferenceSource(Grid a, Grid b, GridInfo info) : a_(std::move(a)), b_(std::move(b)), info_(std::move(info)) {}
  const GridInfo& info() const override { return info_; }
  void read(const BlockView& out) const override {
    a_.read_into(out);
    const Block b = b_.read(out.window);
    for (std::int64_t r = 0; r < out.window.rows; ++r)
      for (std::int64_t c = 0; c < out.window.cols; ++c) {
        float& d = out.row(r)[c];
        d = static_cast<float>(static_cast<double>(d) - static_cast<double>(b.at(c, r)));
        if (out.origin && std::isnan(d)) out.origin_row(r)[c] = 0;
      }
  }

 private:
  Grid a_, b_;
  GridInfo info_;
};

Grid difference_of(const Grid& a, const Grid& b) {
  GridInfo info = a.info();
  info.quantity.kind = QuantityKind::Difference;
  info.quantity.heights = {};
  info.type = SampleType::Float32;
  info.file_void.reset();
  info.name = a.info().name + " less " + b.info().name;
  return Grid(std::make_shared<DifferenceSource>(a, b, std::move(info)));
}

// The coarser frame, and the part of it that both cover.
Frame common_frame(const Grid& a, const Grid& b) {
  auto edge = [](const Grid& g) {
    const GroundSpacing s = ground_spacing(g.frame());
    return s.x.metres() * s.y.metres();
  };
  // The second is taken only when it is clearly coarser.
  const bool second = edge(b) > 1.05 * edge(a);
  const Frame &f = second ? b.frame() : a.frame(), &o = second ? a.frame() : b.frame();
  const Bounds box = f.bounds(), other = f.told_here(transformed(o.bounds(), Transform(o.crs(), f.crs())));
  const Bounds common{std::max(box.west, other.west), std::max(box.south, other.south), std::min(box.east, other.east),
                      std::min(box.north, other.north)};
  const Window w = common.empty() ? Window() : f.window_of_centres(common).intersected(f.window());
  if (w.empty())
    throw Error(ErrorCode::BadArgument, fmt::format("does not overlap {}", b.info().name), a.info().name,
                "compare surfaces of the same place; look tells where each lies");
  return f.sub(w);
}

Grid on_frame(const Grid& g, const Frame& f, std::vector<std::string>& notes) {
  if (const auto same = g.frame().window_of(f)) return cut(g, *same);
  // Cells clearly smaller are averaged: their noise must not be taken for that of the others.
  const double finer = ground_spacing(f).y / ground_spacing(g.frame()).y;
  const Resampling method = finer > kMeanFromHere ? Resampling::Mean : resolved(Resampling::Automatic, g, f);
  notes.push_back(fmt::format("{}: brought to the cells of the comparison ({})", g.info().name, name_of(method)));
  return reproject(g, f, method);
}

void require_comparable(const Grid& g) {
  if (g.quantity().kind != QuantityKind::Height)
    throw Error(ErrorCode::BadArgument, fmt::format("holds {}, not heights", name_of(g.quantity().kind)), g.info().name,
                "compare takes two surfaces");
  if (!g.frame().crs())
    throw Error(ErrorCode::Refused, "has no coordinate reference system, so it cannot be laid over another",
                g.info().name, "tell it with --crs");
}

// ----------------------------------------------------------------------------------------------- gathering by bands

// One standard uncertainty as cells of the comparison have it, squared and in its unit.
class UncertaintyOf {
 public:
  UncertaintyOf(const Uncertainty& u, const Frame& frame, double unit, std::vector<std::string>& notes) {
    if (const auto* length = std::get_if<Length>(&u)) everywhere_ = std::pow(length->metres() / unit, 2);
    const auto* grid = std::get_if<Grid>(&u);
    if (!grid || !*grid) return;
    const QuantityKind kind = grid->quantity().kind;
    if (kind != QuantityKind::Uncertainty && kind != QuantityKind::Height && kind != QuantityKind::Unknown)
      throw Error(ErrorCode::BadArgument, fmt::format("holds {}, no uncertainty", name_of(kind)), grid->info().name,
                  "give a grid of standard uncertainties in a unit of length");
    by_place_ = on_frame(*grid, frame, notes);
    factor_ = metres_per(grid->quantity().unit) / unit;
  }
  bool by_place() const { return static_cast<bool>(by_place_); }
  Block read(const Window& w) const { return by_place_ ? by_place_.read(w) : Block(); }
  // `row`: of what was read; may be null.
  double squared(const float* row, std::int64_t col) const {
    if (!row) return everywhere_;
    const double u = static_cast<double>(row[col]) * factor_;
    return u * u;
  }

 private:
  double everywhere_ = 0, factor_ = 1;
  Grid by_place_;
};

std::vector<double> in_degrees(const std::vector<Angle>& angles) {
  std::vector<double> d;
  for (const Angle& a : angles) d.push_back(a.degrees());
  return d;
}

// How errors of neighbours go together is told from these.
std::vector<Window> error_windows(const Frame& frame) { return spread_windows(frame, 256, 24); }

class Comparing {
 public:
  Comparing(const CompareOptions& o, Comparison& c)
      : options_(o),
        out_(c),
        unit_(metres_per(c.first_here.quantity().unit)),
        ruler_(c.frame.crs()),
        rows_(c.frame, {in_degrees(o.slope_bounds)}, o.sea_level.in(c.first_here.quantity().unit), sampled_median()) {
    for (const Uncertainty* u : {&o.uncertainty_first, &o.uncertainty_second}) {
      uncertainties_.emplace_back(*u, c.frame, unit_, c.notes);
      detecting_ = detecting_ || u->index() > 0;
    }
    if (o.area) mask_.emplace(o.area->in(c.frame.crs()).shape(), c.frame);
  }

  void run() {
    std::vector<ErrorGathering> all;
    for (const ClassPart& k : rows_.part().classes) all.push_back(k.errors);
    std::vector<PatchRow> open;
    VolumeChange volume;
    Detection detected;
    std::int64_t row = 0;
    map_bands(
        out_.second_here, Planes::Values, 0, options_.run,
        [&](Block b, const Window& band) -> std::shared_ptr<void> { return scan(b, band); },
        [&](std::shared_ptr<void> part) {
          const auto& p = *static_cast<const DifferencePart*>(part.get());
          for (std::size_t k = 0; k < all.size(); ++k) {
            all[k].add(p.classes[k].errors);
            for (const Moments& m : p.classes[k].rows) all[k].moments.add(m);
          }
          for (const VolumeRow& v : p.volume) v.to(volume, unit_);
          for (const DetectedRow& d : p.detected) d.to(detected, unit_);
          for (const auto& patches : p.patches) {
            join_patches(open, patches);
            if (++row % kVolumePatch == 0 || row == out_.frame.rows()) close_patches(open, row);
          }
        });
    results(all, volume, detected);
  }

 private:
  // About where the differences lie, so that the sketch is fine there: of small windows spread over the frame, or of
  // rows where those meet few cells that both know.
  double sampled_median() const {
    constexpr std::int64_t kSide = 64, kMostWindows = 16, kMostRows = 64, kMostAcross = 4096;
    constexpr std::size_t kEnough = 1000;
    const Frame& f = out_.frame;
    std::vector<double> d = differences_in(spread_windows(f, kSide, kMostWindows));
    if (d.size() < kEnough) {
      std::vector<Window> rows;
      const std::int64_t n = std::min(f.rows(), kMostRows), across = std::min(f.cols(), kMostAcross);
      for (std::int64_t i = 0; i < n; ++i) rows.push_back({(f.cols() - across) / 2, placed(i, n, f.rows()), across, 1});
      d = differences_in(rows);
    }
    const double m = median_of(std::move(d));
    return std::isnan(m) ? 0 : m;
  }

  std::vector<double> differences_in(const std::vector<Window>& windows) const {
    std::vector<std::vector<double>> parts(windows.size());
    parallel_for(windows.size(), options_.run, [&](std::size_t i) {
      const Block b = out_.difference.read(windows[i]);
      for (std::int64_t k = 0; k < windows[i].cells(); ++k)
        if (!std::isnan(b.row(0)[k])) parts[i].push_back(static_cast<double>(b.row(0)[k]));
    });
    std::vector<double> all;
    for (const auto& p : parts) all.insert(all.end(), p.begin(), p.end());
    return all;
  }

  // The second over a band; the first with a cell more around, for its gradients.
  std::shared_ptr<DifferencePart> scan(const Block& b, const Window& band) const {
    auto part = std::make_shared<DifferencePart>(rows_.part());
    const Block a = out_.first_here.read(band.grown(1), Planes::ValuesAndOrigin);
    const GradientField gradients(out_.frame, ruler_, scale_step_, unit_, false, band);
    const auto n = static_cast<std::size_t>(band.cols);
    std::vector<float> p(n), q(n);
    std::vector<double> levels(detecting_ ? n : 0);
    const Block u1 = uncertainties_[0].read(band), u2 = uncertainties_[1].read(band);
    for (std::int64_t r = 0; r < band.rows; ++r) {
      gradients.row(a, r, p.data(), q.data());
      if (detecting_) levels_of(u1, u2, r, levels);
      rows_.add({a.row(r + 1) + 1, a.origin_row(r + 1) + 1, b.row(r), p.data(), q.data(), levels, band.row + r},
                spans(band.row + r), *part);
    }
    rows_.finish(*part);
    return part;
  }
  DifferenceRows::Spans spans(std::int64_t row) const {
    return mask_ ? mask_->spans(row) : DifferenceRows::Spans{{0, out_.frame.cols()}};
  }

  // Of detection: 1.96 times both uncertainties; NaN where one is not known.
  void levels_of(const Block& u1, const Block& u2, std::int64_t r, std::vector<double>& out) const {
    const float *first = uncertainties_[0].by_place() ? u1.row(r) : nullptr,
                *second = uncertainties_[1].by_place() ? u2.row(r) : nullptr;
    for (std::size_t c = 0; c < out.size(); ++c) {
      const auto col = static_cast<std::int64_t>(c);
      out[c] = kTwoSided95 * std::sqrt(uncertainties_[0].squared(first, col) + uncertainties_[1].squared(second, col));
    }
  }

  void join_patches(std::vector<PatchRow>& open, const std::vector<PatchRow>& row) {
    if (open.empty()) {
      open.resize(row.size());
      largest_row_.assign(row.size(), 0);
    }
    for (std::size_t i = 0; i < row.size(); ++i) {
      open[i].sum += row[i].sum;
      open[i].n += row[i].n;
      if (std::abs(row[i].largest) > std::abs(open[i].largest)) {
        open[i].largest = row[i].largest;
        open[i].col = row[i].col;
        largest_row_[i] = rows_joined_;
      }
    }
    ++rows_joined_;
  }

  void close_patches(std::vector<PatchRow>& open, std::int64_t end) {
    const std::int64_t begin = (end - 1) / kVolumePatch * kVolumePatch;
    for (std::size_t i = 0; i < open.size(); ++i) {
      const PatchRow& p = open[i];
      if (p.n == 0) continue;
      const std::int64_t col = static_cast<std::int64_t>(i) * kVolumePatch;
      const Window w = Window{col, begin, kVolumePatch, end - begin}.intersected(out_.frame.window());
      out_.worst.push_back({out_.frame.centre(static_cast<double>(p.col), static_cast<double>(largest_row_[i])),
                            static_cast<double>(p.largest), p.sum / p.n, out_.frame.sub(w).bounds()});
    }
    std::stable_sort(out_.worst.begin(), out_.worst.end(), [](const WorstPlace& a, const WorstPlace& b) {
      return std::abs(a.difference) > std::abs(b.difference);
    });
    if (out_.worst.size() > kWorstPlaces) out_.worst.resize(kWorstPlaces);
    open.clear();
  }

  void results(const std::vector<ErrorGathering>& all, VolumeChange volume, Detection detected) {
    out_.overall = all[0].result();
    out_.sketch = all[0].sketch;
    if (out_.overall.count == 0)
      throw Error(ErrorCode::BadArgument, fmt::format("and {} have no cell in common", out_.second), out_.first,
                  "check the area and the voids of both");
    for (std::size_t k = 0; k < rows_.classes().all(); ++k)
      if (ErrorStatistics s = all[k + 1].result(); s.count > 0) {
        auto [of, name] = rows_.classes().name(k);
        // A class that holds all cells tells no more than the whole.
        if (s.count < out_.overall.count) out_.classes.push_back({of, name, s});
      }
    if (detected.known > 0) detected.level = std::sqrt(detected.level / static_cast<double>(detected.known));
    const ErrorModel model = error_model();
    const double spread = detected.level > 0 ? detected.level / kTwoSided95 : std::sqrt(model.variance());
    const auto independent = [&](std::int64_t cells) {
      const auto n = static_cast<double>(cells);
      return std::max(1.0, n / model.alike(std::sqrt(n)));
    };
    out_.independent_cells = independent(out_.overall.count);
    auto uncertain = [&](VolumeChange& v, std::int64_t cells) {
      const double n = independent(cells);
      v.uncertainty = two_sided_95(n) * v.area * spread * unit_ / std::sqrt(n);
    };
    uncertain(volume, out_.overall.count);
    out_.volume = volume;
    if (detected.known == 0) {
      if (detecting_)
        out_.notes.push_back("no level of detection: the uncertainties given are zero or void everywhere");
      return;
    }
    uncertain(detected.volume, detected.cells);
    detected.share = static_cast<double>(detected.cells) / static_cast<double>(detected.known);
    out_.detection = detected;
  }

  // How errors of neighbours go together, from windows spread over the difference; what stands off has changed, and is
  // no error.
  ErrorModel error_model() const {
    const std::vector<Window> windows = error_windows(out_.frame);
    std::vector<Variogram> parts(windows.size());
    parallel_for(parts.size(), options_.run, [&](std::size_t i) {
      const Window& w = windows[i];
      parts[i].add(errors_in(w), w.cols, w.rows);
    });
    Variogram all;
    for (const Variogram& v : parts) all.add(v);
    return all.fit();
  }

  // The differences in a window that may be errors; void elsewhere.
  std::vector<float> errors_in(const Window& w) const {
    const Block d = out_.difference.read(w);
    const double limit = kStandsOff * out_.overall.nmad;
    std::vector<float> errors(static_cast<std::size_t>(w.cells()), kVoid);
    for (std::int64_t r = 0; r < w.rows; ++r) {
      for (auto [first, last] : spans(w.row + r))
        for (std::int64_t c = std::max<std::int64_t>(0, first - w.col); c < std::min(w.cols, last - w.col); ++c)
          if (const float v = d.at(c, r); std::abs(static_cast<double>(v) - out_.overall.median) <= limit)
            errors[static_cast<std::size_t>(r * w.cols + c)] = v;
    }
    return errors;
  }

  const CompareOptions& options_;
  Comparison& out_;
  double unit_ = 1;
  GroundRuler ruler_;
  std::int64_t scale_step_ = scale_step(out_.frame);
  DifferenceRows rows_;
  std::optional<CellMask> mask_;
  std::vector<UncertaintyOf> uncertainties_;  // of both
  bool detecting_ = false;
  std::int64_t rows_joined_ = 0;
  std::vector<std::int64_t> largest_row_;
};

}  // namespace

std::pair<Grid, Grid> brought_together(const Grid& first, const Grid& second, std::vector<std::string>& notes) {
  require_comparable(first);
  require_comparable(second);
  const HeightReference &ha = first.quantity().heights, &hb = second.quantity().heights;
  if (ha.known() != hb.known())
    throw Error(ErrorCode::Refused,
                fmt::format("does not say from where its heights count, {} counts from {}",
                            ha.known() ? first.info().name : second.info().name, ha.known() ? ha.name() : hb.name()),
                ha.known() ? second.info().name : first.info().name, "tell it with --heights");
  // Neighbours across the antimeridian are told from one side of it.
  Grid b = first.frame().crs().is_geographic() ? around_longitude(second, first.frame().bounds().centre().x) : second;
  if (ha.known() && !(ha == hb)) {
    b = to_heights(b, ha);
    notes.push_back(fmt::format("{}: brought from {} to {}", second.info().name, hb.name(), ha.name()));
  }
  if (!ha.known()) notes.push_back("neither says from where its heights count: they are taken to be the same");
  if (b.quantity().unit != first.quantity().unit) {
    notes.push_back(fmt::format("{}: brought from {} to {}", second.info().name, symbol(b.quantity().unit),
                                symbol(first.quantity().unit)));
    b = in_unit(b, first.quantity().unit);
  }
  for (const Grid* g : {&first, &second})
    if (!g->quantity().unit_known)
      notes.push_back(fmt::format("{}: does not say in which unit its heights are: {} was taken", g->info().name,
                                  symbol(g->quantity().unit)));
  const SurfaceKind ka = first.quantity().surface, kb = second.quantity().surface;
  if (ka != kb && ka != SurfaceKind::Unknown && kb != SurfaceKind::Unknown)
    notes.push_back(fmt::format("{} is of the {}, {} of the {}: what stands between them is part of the difference",
                                first.info().name, name_of(ka), second.info().name, name_of(kb)));
  const Frame f = common_frame(first, b);
  return {on_frame(first, f, notes), on_frame(b, f, notes)};
}

std::pair<double, double> Comparison::robust_range() const {
  const double low = std::min(0.0, sketch.quantile(0.005)), high = std::max(0.0, sketch.quantile(0.995));
  return high > low ? std::pair{low, high} : std::pair{-1.0, 1.0};
}

namespace {

// Where a shift is looked for, and errors of neighbours: places that lie in most tiles of a file, and are read after
// all of it. Of a second surface on other cells nothing is kept: it is resampled.
void keep_what_is_wanted_again(const Comparison& c, const CompareOptions& options, KeptInPassing& first,
                               KeptInPassing& second) {
  const auto in_second = second.info().frame.window_of(c.frame);
  std::vector<Window> of_first, of_second;
  const auto add = [&](const Window& w, std::int64_t around_first, std::int64_t around_second) {
    of_first.push_back(w.grown(around_first));
    if (in_second)
      of_second.push_back(Window{w.col + in_second->col, w.row + in_second->row, w.cols, w.rows}.grown(around_second));
  };
  if (options.coregister)
    for (const Window& w : shift_places(c.frame, kShiftCells)) add(w, kAroundReference, kAroundSurface);
  for (const Window& w : error_windows(c.frame)) add(w, 0, 0);
  first.keep(of_first, options.run.memory / kWantedAgainShare);
  second.keep(of_second, options.run.memory / kWantedAgainShare);
}

}  // namespace

Comparison compare(const Grid& first, const Grid& second, const CompareOptions& options) {
  Comparison c;
  c.first = first.info().name;
  c.second = second.info().name;
  const auto of_second = std::make_shared<KeptInPassing>(second);
  std::tie(c.first_here, c.second_here) = brought_together(first, Grid(of_second), c.notes);
  c.frame = c.first_here.frame();
  const auto of_first = std::make_shared<KeptInPassing>(c.first_here);
  c.first_here = Grid(of_first);
  keep_what_is_wanted_again(c, options, *of_first, *of_second);
  c.difference = difference_of(c.first_here, c.second_here);
  Comparing(options, c).run();
  if (options.coregister) {
    // The second with its own cells, so that it is resampled once only.
    Grid b(of_second);
    if (c.second_here.quantity().heights.known()) b = to_heights(b, c.second_here.quantity().heights);
    const Grid a = options.area ? clip(c.first_here, *options.area) : c.first_here;
    c.coregistration = coregister(a, b, {.rotation = options.rotation, .run = options.run});
  }
  of_first->forget();
  of_second->forget();
  return c;
}

Grid corrected_second(const Comparison& c, const Grid& second) {
  if (!c.coregistration || !c.coregistration->found)
    throw Error(ErrorCode::BadArgument,
                "no shift was found that could be taken out" +
                    (c.coregistration ? ": " + c.coregistration->why : std::string()),
                second.info().name, "compare over ground with some slope");
  const HeightReference& to = c.second_here.quantity().heights;
  return corrected(to.known() ? to_heights(second, to) : second, c.coregistration->correction());
}

Layer worst_layer(const Comparison& c) {
  Layer layer{.name = "worst places", .crs = c.frame.crs(), .features = {}};
  for (const WorstPlace& w : c.worst)
    layer.features.push_back({w.place,
                              {{"difference", w.difference},
                               {"patch_mean", w.patch_mean},
                               {"unit", std::string(unit_name(c.difference.quantity()))}},
                              {}});
  return layer;
}

}  // namespace katoptra

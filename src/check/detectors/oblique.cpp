#include "oblique.hpp"

#include <algorithm>
#include <cmath>
#include <map>

namespace katoptra {
namespace {

constexpr std::int64_t kHalves = static_cast<std::int64_t>(kHalfEdge);
constexpr std::int64_t kMiddle = (kWindowEdge - kHalves) / 2;  // rows and columns before the middle
// Larger grids are looked at in every other window either way: what matters crosses many of them.
constexpr std::int64_t kWholeCells = 4096 * 4096;

// Where windows begin along a side.
std::vector<std::int64_t> beginnings(std::int64_t size, bool whole) {
  std::vector<std::int64_t> at;
  if (size < kWindowEdge) return at;
  const std::int64_t spacing = whole ? kWindowEdge : 2 * kWindowEdge, n = (size + spacing - 1) / spacing;
  for (std::int64_t i = 0; i < n; ++i) at.push_back(n == 1 ? 0 : i * (size - kWindowEdge) / (n - 1));
  return at;
}

// Rows of a window that lie in one band.
struct Piece {
  std::size_t window = 0;
  std::size_t half_row = 0, middle_row = 0;  // the first of each
  std::vector<float> halves, middle;
  bool last = false;  // the window is complete with it

  template <class Fields>
  void fields(Fields& f) {
    f(window, half_row, middle_row, halves, middle, last);
  }
};
using Part = std::vector<Piece>;

class ObliqueDetector final : public DetectorOf<Part> {
 public:
  explicit ObliqueDetector(Scene& scene)
      : DetectorOf(scene),
        whole_(scene.frame().cols() * scene.frame().rows() <= kWholeCells),
        cols_(beginnings(scene.frame().cols(), whole_)),
        rows_(beginnings(scene.frame().rows(), whole_)),
        steps_(scene),
        ripples_(scene) {}

  std::shared_ptr<void> scan(const Block& b, const Window& band) const override {
    auto part = std::make_shared<Part>();
    for (std::size_t i = 0; i < rows_.size(); ++i) {
      // A pair of rows belongs to the band that its first is in.
      const std::int64_t first = std::max<std::int64_t>(0, (band.row - rows_[i] + 1) / 2),
                         end = std::min(kHalves, (band.row + band.rows - rows_[i] + 1) / 2);
      if (band.row + band.rows <= rows_[i] || band.row >= rows_[i] + kWindowEdge) continue;
      for (std::size_t k = 0; k < cols_.size(); ++k) part->push_back(piece(b, band, i, k, first, end));
    }
    return part;
  }

  void merge(void* p) override {
    for (Piece& piece : *static_cast<Part*>(p)) {
      SampledWindow& w = open_[piece.window];
      if (w.halves.empty()) {
        w.at = {cols_[piece.window % cols_.size()], rows_[piece.window / cols_.size()], kWindowEdge, kWindowEdge};
        w.halves.resize(kHalfEdge * kHalfEdge);
        if (with_middle(piece.window)) w.middle.resize(kHalfEdge * kHalfEdge);
      }
      if (!piece.halves.empty())
        std::copy(piece.halves.begin(), piece.halves.end(),
                  w.halves.begin() + static_cast<std::ptrdiff_t>(piece.half_row * kHalfEdge));
      if (!piece.middle.empty())
        std::copy(piece.middle.begin(), piece.middle.end(),
                  w.middle.begin() + static_cast<std::ptrdiff_t>(piece.middle_row * kHalfEdge));
      if (!piece.last) continue;
      steps_.look(w);
      if (!w.middle.empty()) ripples_.look(w);
      open_.erase(piece.window);
    }
  }

  void judge() override {
    steps_.judge();
    ripples_.judge();
  }

 private:
  bool with_middle(std::size_t window) const {
    return whole_ || (window / cols_.size() % 2 == 0 && window % cols_.size() % 2 == 0);
  }

  Piece piece(const Block& b, const Window& band, std::size_t i, std::size_t k, std::int64_t first,
              std::int64_t end) const {
    Piece p;
    p.window = i * cols_.size() + k;
    p.half_row = static_cast<std::size_t>(first);
    p.last = first < end && end == kHalves;
    const std::int64_t top = rows_[i] - band.row + kHalo;  // of the window, in the block
    if (first < end) p.halves.reserve(static_cast<std::size_t>(end - first) * kHalfEdge);
    for (std::int64_t r = first; r < end; ++r) {
      const float *one = b.row(top + 2 * r) + cols_[k], *two = b.row(top + 2 * r + 1) + cols_[k];
      for (std::size_t c = 0; c < 2 * kHalfEdge; c += 2)
        p.halves.push_back(0.25f * ((one[c] + one[c + 1]) + (two[c] + two[c + 1])));
    }
    if (!with_middle(p.window)) return p;
    const std::int64_t from = std::max<std::int64_t>(0, band.row - rows_[i] - kMiddle),
                       to = std::min(kHalves, band.row + band.rows - rows_[i] - kMiddle);
    p.middle_row = static_cast<std::size_t>(from);
    for (std::int64_t r = from; r < to; ++r) {
      const float* row = b.row(top + kMiddle + r) + cols_[k] + kMiddle;
      p.middle.insert(p.middle.end(), row, row + kHalfEdge);
    }
    return p;
  }

  bool whole_;
  std::vector<std::int64_t> cols_, rows_;
  ObliqueSteps steps_;
  ObliqueRipples ripples_;
  std::map<std::size_t, SampledWindow> open_;
};

}  // namespace

std::unique_ptr<Detector> make_oblique_detector(Scene& scene) { return std::make_unique<ObliqueDetector>(scene); }

}  // namespace katoptra

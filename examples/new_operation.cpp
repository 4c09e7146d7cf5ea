// An operation of your own: a class over another grid. See docs/grid.md.
#include <cstdio>
#include <utility>

#include "katoptra/formats/grid_file.hpp"

using namespace katoptra;

class Doubled final : public GridSource {
 public:
  explicit Doubled(Grid input) : input_(std::move(input)), info_(input_.info()) {}
  const GridInfo& info() const override { return info_; }
  void read(const BlockView& out) const override {
    input_.read_into(out);
    for (std::int64_t r = 0; r < out.window.rows; ++r)
      for (std::int64_t c = 0; c < out.window.cols; ++c) out.row(r)[c] *= 2;  // NaN stays NaN
  }

 private:
  Grid input_;
  GridInfo info_;
};

Grid doubled(const Grid& g) { return Grid(std::make_shared<Doubled>(g)); }

int main() {
  const Grid truth = open_grid(DEMO "reference/truth.tif");
  std::printf("%.2f m becomes %.2f m\n", static_cast<double>(truth.at(400, 300)),
              static_cast<double>(doubled(truth).at(400, 300)));
}

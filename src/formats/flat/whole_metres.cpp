#include "whole_metres.hpp"

#include <cmath>
#include <fmt/format.h>
#include <utility>

#include "katoptra/base/error.hpp"

namespace katoptra {
namespace {

class RoundedSource final : public GridSource {
 public:
  RoundedSource(Grid input, GridInfo info) : input_(std::move(input)), info_(std::move(info)) {}
  const GridInfo& info() const override { return info_; }
  void read(const BlockView& out) const override {
    input_.read_into(out);
    for (std::int64_t r = 0; r < out.window.rows; ++r)
      for (std::int64_t c = 0; c < out.window.cols; ++c) out.row(r)[c] = std::nearbyint(out.row(r)[c]);
  }

 private:
  Grid input_;
  GridInfo info_;
};

}  // namespace

void require_metres_above(const Grid& grid, const HeightReference& reference, const std::string& what,
                          const std::string& file) {
  const Quantity& q = grid.quantity();
  if (q.kind == QuantityKind::Height && q.unit == LengthUnit::Metre && (!q.heights.known() || q.heights == reference))
    return;
  // "EGM96 height" is asked for by its first word.
  const std::string word = reference.name().substr(0, reference.name().find(' '));
  throw Error(ErrorCode::Refused,
              fmt::format("{} holds metres above {}, and these are {} in {} above {}", what, word, name_of(q.kind),
                          unit_name(q), q.heights.name()),
              file, fmt::format("convert with --heights {} --unit m, or choose another format", word));
}

Grid in_whole_metres(const Grid& grid, double hole, const std::string& format) {
  GridInfo info = grid.info();
  const bool whole = is_integer(info.type);
  info.type = SampleType::Int16;
  info.file_void = hole;
  if (whole) return relabelled(grid, [&](GridInfo& i) { i = info; });
  info.notes.push_back(fmt::format("heights were rounded to whole metres, as {} has them", format));
  return Grid(std::make_shared<RoundedSource>(grid, std::move(info)));
}

}  // namespace katoptra

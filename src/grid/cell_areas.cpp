#include "cell_areas.hpp"

#include <algorithm>
#include <cmath>

namespace katoptra {
namespace {

constexpr double kWideCell = 5000;           // metres
constexpr std::size_t kRecentNodeRows = 32;  // a thread needs two

}  // namespace

CellAreas::CellAreas(const Frame& frame) : frame_(frame), ruler_(frame.crs()), step_(scale_step(frame)) {
  if (!frame.crs() || frame.crs().is_geographic()) return;
  const GroundSpacing s = ground_spacing(frame);
  const double wide = std::max(s.x.metres(), s.y.metres());
  if (std::isfinite(wide)) places_ = std::clamp(static_cast<int>(std::ceil(wide / kWideCell)), 1, 16);
}

CellAreas::Row CellAreas::row(std::int64_t r, std::int64_t from, std::int64_t end) const {
  Row out;
  if (!frame_.crs()) {
    out.nodes_ = {frame_.cell().x * frame_.cell().y};
    return out;
  }
  if (frame_.crs().is_geographic()) {
    const double middle = frame_.centre(0, static_cast<double>(r)).y, half = frame_.cell().y / 2;
    out.nodes_ = {frame_.cell().x * ruler_.zone(middle - half, middle + half)};
    return out;
  }
  out.step_ = step_;
  out.first_ = from / step_;
  const std::int64_t count = (end - 1) / step_ - out.first_ + (step_ > 1 ? 2 : 1);
  if (step_ == 1) {
    out.nodes_ = nodes_of(r, out.first_, count);
    return out;
  }
  const std::int64_t above = r / step_, past = r % step_;
  const auto nodes = node_row(above);
  const auto begin = nodes->begin() + out.first_;
  out.nodes_.assign(begin, begin + count);
  if (past == 0) return out;
  const auto below = node_row(above + 1);
  for (std::size_t i = 0; i < out.nodes_.size(); ++i)
    out.nodes_[i] = between(out.nodes_[i], (*below)[i + static_cast<std::size_t>(out.first_)], step_, past);
  return out;
}

// Areas of the cells at `count` nodes of a row.
CellAreas::Nodes CellAreas::nodes_of(std::int64_t r, std::int64_t first, std::int64_t count) const {
  std::vector<Point> at;
  for (std::int64_t i = 0; i < count; ++i)
    for (int v = 0; v < places_; ++v)
      for (int u = 0; u < places_; ++u)
        at.push_back(frame_.centre(static_cast<double>((i + first) * step_) + (u + 0.5) / places_ - 0.5,
                                   static_cast<double>(r) + (v + 0.5) / places_ - 0.5));
  std::vector<double> area(at.size());
  ruler_.areas(at, area);
  const auto each = static_cast<std::size_t>(places_) * static_cast<std::size_t>(places_);
  Nodes nodes;
  for (std::size_t i = 0; i < area.size(); i += each) {
    double sum = 0;
    for (std::size_t k = 0; k < each; ++k) sum += area[i + k];
    nodes.push_back(frame_.cell().x * frame_.cell().y * sum / static_cast<double>(each));
  }
  return nodes;
}

std::shared_ptr<const CellAreas::Nodes> CellAreas::node_row(std::int64_t number) const {
  {
    const std::lock_guard lock(recent_->mutex);
    for (const auto& [n, nodes] : recent_->rows)
      if (n == number) return nodes;
  }
  auto nodes = std::make_shared<const Nodes>(nodes_of(number * step_, 0, (frame_.cols() - 1) / step_ + 2));
  const std::lock_guard lock(recent_->mutex);
  if (recent_->rows.size() == kRecentNodeRows) recent_->rows.erase(recent_->rows.begin());
  recent_->rows.emplace_back(number, nodes);
  return nodes;
}

void CellAreas::Row::read(std::int64_t from, std::span<double> out) const {
  if (step_ == 0) return std::fill(out.begin(), out.end(), nodes_[0]);
  for (std::size_t c = 0; c < out.size();) {
    const std::int64_t col = from + static_cast<std::int64_t>(c), i = col / step_ - first_;
    const auto node = static_cast<std::size_t>(i);
    std::int64_t past = col - (i + first_) * step_;
    if (past == 0) {
      out[c++] = nodes_[node];
      ++past;
    }
    const std::size_t n = std::min(out.size() - c, static_cast<std::size_t>(std::max<std::int64_t>(0, step_ - past)));
    const double a = nodes_[node], each = n > 0 ? (nodes_[node + 1] - a) / static_cast<double>(step_) : 0;
    for (std::size_t k = 0; k < n; ++k)
      out[c + k] = a + each * static_cast<double>(past + static_cast<std::int64_t>(k));
    c += n;
  }
}

}  // namespace katoptra

#include "wide_membrane.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <span>
#include <sys/mman.h>
#include <vector>

#include "base/scratch.hpp"

namespace katoptra {
namespace {

// Memory of a temporary file; what has been passed is let go of.
template <class T>
class FileArray {
 public:
  explicit FileArray(std::size_t n) : n_(n) {
    fd_ = open_unnamed_file(kName);
    const bool grown = ::ftruncate(fd_, static_cast<off_t>(n * sizeof(T))) == 0;
    void* at = grown ? ::mmap(nullptr, n * sizeof(T), PROT_READ | PROT_WRITE, MAP_SHARED, fd_, 0) : MAP_FAILED;
    if (at == MAP_FAILED) {
      ::close(fd_);
      throw Error(ErrorCode::Io, "no temporary file of that size can be made", kName, "make room in TMPDIR");
    }
    data_ = static_cast<T*>(at);
  }
  ~FileArray() {
    close_memory();
    ::close(fd_);
  }
  // From now on it is read as a file.
  void close_memory() {
    if (data_) ::munmap(data_, n_ * sizeof(T));
    data_ = nullptr;
  }
  void read(std::size_t from, std::span<T> out) const {
    read_descriptor(fd_, from * sizeof(T), std::span(reinterpret_cast<std::uint8_t*>(out.data()), out.size_bytes()),
                    kName);
  }
  FileArray(const FileArray&) = delete;
  FileArray& operator=(const FileArray&) = delete;
  T* data() const { return data_; }
  // Pages that lie within [from, end) leave memory; the file keeps them.
  void let_go(std::size_t from, std::size_t end) const {
    constexpr std::size_t kPage = 4096;
    const std::size_t first = (from * sizeof(T) + kPage - 1) / kPage * kPage, last = end * sizeof(T) / kPage * kPage;
    if (first < last) ::madvise(reinterpret_cast<char*>(data_) + first, last - first, MADV_DONTNEED);
  }

 private:
  static constexpr const char* kName = "a void";
  std::size_t n_;
  int fd_ = -1;
  T* data_ = nullptr;
};

enum class CellIs : std::uint8_t { Nothing = 0, Unknown = 1, Known = 2 };

constexpr int kMostRounds = 80;
constexpr std::int64_t kHeld = std::int64_t{1} << 22;  // cells that are passed before they are let go of

}  // namespace

// A raster with one more cell of nothing on every side.
class WideMembrane::Level {
 public:
  Level(std::int64_t cols, std::int64_t rows, double across)
      : cols_(cols),
        rows_(rows),
        stride_(cols + 2),
        across_(across),
        x_(static_cast<std::size_t>(stride_ * (rows + 2))),
        right_(std::make_unique<FileArray<float>>(static_cast<std::size_t>(stride_ * (rows + 2)))),
        is_(std::make_unique<FileArray<CellIs>>(static_cast<std::size_t>(stride_ * (rows + 2)))) {}
  std::int64_t cols() const { return cols_; }
  std::int64_t rows() const { return rows_; }
  double* x(std::int64_t row) const { return x_.data() + (row + 1) * stride_ + 1; }
  float* right(std::int64_t row) const { return right_->data() + (row + 1) * stride_ + 1; }
  CellIs* is(std::int64_t row) const { return is_->data() + (row + 1) * stride_ + 1; }
  // Heights and depths, to be read from the file.
  void keep_results() {
    right_.reset();
    measure_depths();
    is_.reset();
    x_.close_memory();
  }
  void read(std::int64_t col, std::int64_t row, std::span<double> out) const {
    x_.read(static_cast<std::size_t>((row + 1) * stride_ + 1 + col), out);
  }
  void read_depths(std::int64_t col, std::int64_t row, std::span<std::uint16_t> out) const {
    depth_->read(static_cast<std::size_t>((row + 1) * stride_ + 1 + col), out);
  }
  // Of rows [first, end).
  void let_go(std::int64_t first, std::int64_t end) const {
    if (first >= end || first < 0 || end > rows_) return;
    const auto from = static_cast<std::size_t>((first + 1) * stride_),
               to = static_cast<std::size_t>((end + 1) * stride_);
    x_.let_go(from, to);
    if (right_) right_->let_go(from, to);
    if (depth_) depth_->let_go(from, to);
    is_->let_go(from, to);
  }

  // Calls body(row) down or up, letting go of what lies behind.
  template <class Body>
  void each_row(bool down, const Body& body) const {
    const std::int64_t band = std::max<std::int64_t>(16, kHeld / stride_);
    for (std::int64_t i = 0; i < rows_; ++i) {
      const std::int64_t row = down ? i : rows_ - 1 - i;
      body(row);
      if ((i + 1) % band != 0 || i + 1 == rows_) continue;
      // But for a few rows that the next ones look at.
      let_go(down ? row - band + 3 : row + 4, down ? row - 2 : row + band - 1);
    }
    // And the last ones.
    let_go(0, std::min(rows_, 2 * band));
    let_go(std::max<std::int64_t>(0, rows_ - 2 * band), rows_);
  }

  // Of the neighbours of a cell: the sum of their weights times heights, and of weights.
  struct Around {
    double sum = 0, weight = 0;
  };
  Around around(const double* x, const CellIs* is) const {
    Around a;
    const auto add = [&](std::int64_t step, double w) {
      if (is[step] == CellIs::Nothing) return;
      a.sum += w * x[step];
      a.weight += w;
    };
    add(-1, across_);
    add(1, across_);
    add(-stride_, 1);
    add(stride_, 1);
    return a;
  }

  // Every cell takes what its equation asks for, one after the other (Gauss & Seidel); the largest change.
  double sweep(bool down) const {
    double largest = 0;
    each_row(down, [&](std::int64_t row) {
      double* x = this->x(row);
      const float* b = right(row);
      const CellIs* is = this->is(row);
      for (std::int64_t i = 0; i < cols_; ++i) {
        const std::int64_t c = down ? i : cols_ - 1 - i;
        if (is[c] != CellIs::Unknown) continue;
        const Around a = around(x + c, is + c);
        if (a.weight == 0) continue;
        const double z = (a.sum + static_cast<double>(b[c])) / a.weight;
        largest = std::max(largest, std::abs(z - x[c]));
        x[c] = z;
      }
    });
    return largest;
  }

  // The level above: two by two cells are one, unknown when all that there are are.
  std::unique_ptr<Level> coarser(double across) const {
    auto up = std::make_unique<Level>((cols_ + 1) / 2, (rows_ + 1) / 2, across);
    each_row(true, [&](std::int64_t fine) {
      if (fine % 2 == 0 && fine + 1 < rows_) return;
      const std::int64_t row = fine / 2;
      const CellIs *upper = is(2 * row), *lower = is(2 * row + 1);
      CellIs* to = up->is(row);
      for (std::int64_t c = 0; c < up->cols(); ++c) {
        const CellIs four[] = {upper[2 * c], upper[2 * c + 1], lower[2 * c], lower[2 * c + 1]};
        const bool any = std::find(std::begin(four), std::end(four), CellIs::Unknown) != std::end(four),
                   known = std::find(std::begin(four), std::end(four), CellIs::Known) != std::end(four);
        to[c] = known ? CellIs::Known : any ? CellIs::Unknown : CellIs::Nothing;
        up->unknown_ += to[c] == CellIs::Unknown;
      }
    });
    return up;
  }
  std::int64_t unknown() const { return unknown_; }
  void count(std::int64_t unknown) { unknown_ = unknown; }

  // What is left of the equations, summed, is what the level above is to correct; it begins at zero.
  void hand_up(const Level& up) const {
    each_row(true, [&](std::int64_t fine) {
      float* to = up.right(fine / 2);
      if (fine % 2 == 0) {
        std::fill_n(to, up.cols(), 0.0F);
        std::fill_n(up.x(fine / 2), up.cols(), 0.0);
      }
      const double* x = this->x(fine);
      const float* b = right(fine);
      const CellIs* is = this->is(fine);
      for (std::int64_t c = 0; c < cols_; ++c) {
        if (is[c] != CellIs::Unknown) continue;
        const Around a = around(x + c, is + c);
        to[c / 2] += static_cast<float>(static_cast<double>(b[c]) + a.sum - a.weight * x[c]);
      }
    });
    up.let_go(0, up.rows_);
  }
  // Adds the corrections, bilinear between the middles of the cells above; the largest.
  double take_down(const Level& up) const {
    double largest = 0;
    each_row(true, [&](std::int64_t row) {
      double* x = this->x(row);
      const CellIs* is = this->is(row);
      const std::int64_t beside = row % 2 ? 1 : -1;
      const double *near = up.x(row / 2), *far = near + beside * up.stride_;
      const CellIs *near_is = up.is(row / 2), *far_is = near_is + beside * up.stride_;
      for (std::int64_t c = 0; c < cols_; ++c) {
        if (is[c] != CellIs::Unknown) continue;
        const std::int64_t k = c / 2, side = k + (c % 2 ? 1 : -1);
        // Beyond the edge of the grid it is as here.
        const double own = near[k], h = near_is[side] == CellIs::Nothing ? own : near[side],
                     v = far_is[k] == CellIs::Nothing ? own : far[k],
                     d = far_is[side] == CellIs::Nothing ? (near_is[side] == CellIs::Nothing ? v : h) : far[side];
        const double by = (9 * own + 3 * h + 3 * v + d) / 16;
        largest = std::max(largest, std::abs(by));
        x[c] += by;
      }
    });
    up.let_go(0, up.rows_);
    return largest;
  }

 private:
  // From the north-west, then from the south-east: one step more than the nearest of the neighbours that were passed.
  void measure_depths() {
    constexpr std::uint16_t kFar = 65'535;
    depth_ = std::make_unique<FileArray<std::uint16_t>>(static_cast<std::size_t>(stride_ * (rows_ + 2)));
    for (const bool down : {true, false})
      each_row(down, [&](std::int64_t row) {
        std::uint16_t* d = depth_->data() + (row + 1) * stride_ + 1;
        const CellIs* is = this->is(row);
        const std::int64_t back = down ? -1 : 1, passed = back * stride_;
        for (std::int64_t i = 0; i < cols_; ++i) {
          const std::int64_t c = down ? i : cols_ - 1 - i;
          if (is[c] != CellIs::Unknown) continue;
          std::uint16_t least = down ? kFar : d[c];
          for (const std::int64_t step : {back, passed - 1, passed, passed + 1})
            if (is[c + step] != CellIs::Nothing)
              least = std::min<std::uint16_t>(least, static_cast<std::uint16_t>(std::min<int>(d[c + step] + 1, kFar)));
          d[c] = least;
        }
      });
    depth_->close_memory();
  }

  std::int64_t cols_, rows_, stride_;
  double across_;
  FileArray<double> x_;
  std::unique_ptr<FileArray<float>> right_;
  std::unique_ptr<FileArray<CellIs>> is_;
  std::unique_ptr<FileArray<std::uint16_t>> depth_;
  std::int64_t unknown_ = 0;
};

WideMembrane::~WideMembrane() = default;

// The void's cells, and the known ones around them (also over corners) with their heights about the mean.
void WideMembrane::mark(const VoidCells& voids, std::uint32_t region, const Grid& grid, Level& fine) {
  fine.each_row(true, [&](std::int64_t row) {
    const std::int64_t at = box_.row + row;
    if (at < 0 || at >= grid.frame().rows()) return;
    voids.for_runs(at, box_.col, box_.col + box_.cols, [&](const VoidRun& run, std::size_t) {
      if (run.region == region)
        std::fill(fine.is(row) + (run.first - box_.col), fine.is(row) + (run.last - box_.col), CellIs::Unknown);
    });
  });
  fine.count(voids.map().regions[region].cells);
  double sum = 0, known = 0;
  const std::int64_t rows = std::max<std::int64_t>(1, kHeld / box_.cols);
  for (std::int64_t first = 0; first < box_.rows; first += rows) {
    const std::int64_t n = std::min(rows, box_.rows - first);
    const Block z = grid.read({box_.col, box_.row + first, box_.cols, n});
    for (std::int64_t r = first; r < first + n; ++r)
      for (std::int64_t c = 0; c < box_.cols; ++c) {
        if (fine.is(r)[c] == CellIs::Unknown || std::isnan(z.at(c, r - first))) continue;
        bool beside = false;
        for (std::int64_t dr = -1; dr <= 1 && !beside; ++dr)
          for (std::int64_t dc = -1; dc <= 1; ++dc) beside = beside || fine.is(r + dr)[c + dc] == CellIs::Unknown;
        if (!beside) continue;
        fine.is(r)[c] = CellIs::Known;
        fine.x(r)[c] = static_cast<double>(z.at(c, r - first));
        sum += static_cast<double>(z.at(c, r - first));
        ++known;
      }
    fine.let_go(std::max<std::int64_t>(0, first - 1), first + n - 2);
  }
  mean_ = known > 0 ? sum / known : std::nan("");
}

WideMembrane::WideMembrane(const VoidCells& voids, std::uint32_t region, const Grid& grid, double aspect)
    : box_(voids.map().regions[region].box.grown(1)) {
  const double across = 1 / (aspect * aspect);
  heights_ = std::make_unique<Level>(box_.cols, box_.rows, across);
  mark(voids, region, grid, *heights_);
  double low = INFINITY, high = -INFINITY;
  heights_->each_row(true, [&](std::int64_t row) {
    for (std::int64_t c = 0; c < box_.cols; ++c) {
      if (heights_->is(row)[c] != CellIs::Known) continue;
      double& z = heights_->x(row)[c];
      z -= mean_;
      low = std::min(low, z);
      high = std::max(high, z);
    }
  });
  if (std::isnan(mean_)) {
    heights_->keep_results();
    return;
  }
  std::vector<std::unique_ptr<Level>> above;
  for (const Level* below = heights_.get(); below->unknown() > 16 && std::min(below->cols(), below->rows()) > 2;
       below = above.back().get()) {
    above.push_back(below->coarser(across));
    if (above.back()->unknown() == 0) {
      above.pop_back();
      break;
    }
  }
  const auto level = [&](std::size_t i) -> const Level& { return i == 0 ? *heights_ : *above[i - 1]; };
  const std::size_t top = above.size();
  // Down the levels and up again; the change that it makes to the heights is about what was left before.
  const double enough = Membrane::kTolerance / 5 * std::max(high - low, 1e-9);
  double change = INFINITY;
  for (; rounds_ < kMostRounds && change > enough; ++rounds_) {
    change = 0;
    for (std::size_t i = 0; i < top; ++i) {
      const double a = level(i).sweep(true), b = level(i).sweep(false);
      if (i == 0) change = std::max(a, b);
      level(i).hand_up(level(i + 1));
    }
    for (int k = 0; k < 30; ++k) {
      const double a = level(top).sweep(k % 2 == 0);
      if (top == 0) change = std::max(change, a);
    }
    for (std::size_t i = top; i-- > 0;) {
      const double a = level(i).take_down(level(i + 1)), b = level(i).sweep(true), c = level(i).sweep(false);
      if (i == 0) change = std::max({change, a, b, c});
    }
  }
  heights_->keep_results();
}

void WideMembrane::read_depths(std::int64_t col, std::int64_t row, std::span<std::uint16_t> out) const {
  heights_->read_depths(col - box_.col, row - box_.row, out);
}

void WideMembrane::read(std::int64_t col, std::int64_t row, std::span<float> out) const {
  std::vector<double> x(out.size());
  heights_->read(col - box_.col, row - box_.row, x);
  for (std::size_t i = 0; i < out.size(); ++i) out[i] = static_cast<float>(mean_ + x[i]);
}

}  // namespace katoptra

#include "katoptra/view/classes.hpp"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <limits>
#include <string>

#include "katoptra/base/error.hpp"
#include "katoptra/base/units.hpp"

namespace katoptra {
namespace {

constexpr std::pair<const char*, ClassesBy> kWays[] = {
    {"equal", ClassesBy::Equal}, {"quantile", ClassesBy::Quantile}, {"natural", ClassesBy::Natural}};

// The best way to part the first i values into k classes ends with the best way to part those before its last class: so
// from few to many. What a class costs is its sum of squares about its mean, from running sums.
std::vector<double> natural_breaks(const std::vector<double>& all, int count) {
  std::vector<double> z;
  const std::size_t n = std::min(all.size(), kMostForNatural);
  for (std::size_t i = 0; i < n; ++i) z.push_back(all[n > 1 ? i * (all.size() - 1) / (n - 1) : 0]);
  // About their middle, so that squares keep their digits.
  const double middle = z[n / 2];
  std::vector<double> sum(n + 1, 0), squares(n + 1, 0);
  for (std::size_t i = 0; i < n; ++i) {
    sum[i + 1] = sum[i] + (z[i] - middle);
    squares[i + 1] = squares[i] + (z[i] - middle) * (z[i] - middle);
  }
  auto cost = [&](std::size_t from, std::size_t to) {
    const double s = sum[to] - sum[from];
    return squares[to] - squares[from] - s * s / static_cast<double>(to - from);
  };
  const auto classes = std::min<std::size_t>(static_cast<std::size_t>(count), n);
  std::vector<double> best(n + 1, std::numeric_limits<double>::infinity());
  best[0] = 0;
  std::vector<std::vector<std::size_t>> begins(classes, std::vector<std::size_t>(n + 1, 0));
  for (std::size_t k = 0; k < classes; ++k) {
    std::vector<double> next(n + 1, std::numeric_limits<double>::infinity());
    for (std::size_t i = k + 1; i <= n; ++i)
      for (std::size_t j = k; j < i; ++j)
        if (const double c = best[j] + cost(j, i); c < next[i]) {
          next[i] = c;
          begins[k][i] = j;
        }
    best = std::move(next);
  }
  std::vector<double> out;
  std::size_t end = n;
  for (std::size_t k = classes; k-- > 1;) {
    end = begins[k][end];
    out.push_back((z[end - 1] + z[end]) / 2);
  }
  return out;
}

}  // namespace

std::vector<double> class_breaks(const ClassBreaks& by, std::vector<double> values) {
  if (by.how == ClassesBy::Given) {
    for (std::size_t i = 0; i < by.given.size(); ++i)
      if (!std::isfinite(by.given[i]) || (i > 0 && !(by.given[i - 1] < by.given[i])))
        throw Error(ErrorCode::BadArgument, "the breaks of classes do not ascend", "classes", "give the lowest first");
    if (by.given.empty() || by.given.size() >= static_cast<std::size_t>(kMostMapClasses))
      throw Error(ErrorCode::BadArgument, fmt::format("{} breaks of classes", by.given.size()), "classes",
                  fmt::format("give 1 to {}", kMostMapClasses - 1));
    return by.given;
  }
  if (by.count < 2 || by.count > kMostMapClasses)
    throw Error(ErrorCode::BadArgument, fmt::format("{} classes are not possible", by.count), "classes",
                fmt::format("take 2 to {}", kMostMapClasses));
  std::erase_if(values, [](double v) { return std::isnan(v); });
  if (values.empty()) return {};
  std::sort(values.begin(), values.end());
  std::vector<double> out;
  if (by.how == ClassesBy::Natural) {
    out = natural_breaks(values, by.count);
  } else {
    for (int i = 1; i < by.count; ++i) {
      const double share = static_cast<double>(i) / by.count;
      out.push_back(by.how == ClassesBy::Equal
                        ? values.front() + share * (values.back() - values.front())
                        : values[static_cast<std::size_t>(share * static_cast<double>(values.size()))]);
    }
  }
  std::sort(out.begin(), out.end());
  out.erase(std::unique(out.begin(), out.end()), out.end());
  // All that is alike is one class.
  std::erase_if(out, [&](double b) { return b <= values.front() || b > values.back(); });
  return out;
}

ClassBreaks parse_class_breaks(std::string_view text) {
  const auto colon = text.find(':');
  for (const auto& [name, how] : kWays)
    if (text.substr(0, colon) == name && colon != text.npos)
      if (const auto n = parse_number(std::string(text.substr(colon + 1)));
          n && *n == std::floor(*n) && *n >= 2 && *n <= kMostMapClasses)
        return {.how = how, .count = static_cast<int>(*n), .given = {}};
  throw Error(
      ErrorCode::BadArgument, fmt::format("'{}' tells no classes", text), "classes",
      fmt::format("write equal:5, quantile:5 or natural:5 (2 to {}), or breaks such as 0,10,25,50m", kMostMapClasses));
}

}  // namespace katoptra

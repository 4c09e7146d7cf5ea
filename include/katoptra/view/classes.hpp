// Where the classes of a map part: given, or found in its values.
//
//   ClassBreaks by{.how = ClassesBy::Natural, .count = 6};
//   std::vector<double> breaks = class_breaks(by, z);      // five of them
//
// Equal: of one width. Quantile: with as many values in each. Natural: so that values differ as little as possible
// within their class (Fisher 1958), of at most kMostForNatural values, evenly taken from the sorted ones.
#pragma once
#include <string_view>
#include <vector>

namespace katoptra {

inline constexpr int kMostMapClasses = 24;
inline constexpr std::size_t kMostForNatural = 1200;

enum class ClassesBy { Given, Equal, Quantile, Natural };
struct ClassBreaks {
  ClassesBy how = ClassesBy::Equal;
  int count = 5;              // of classes; not of given ones
  std::vector<double> given;  // ascending
};

// Ascending, none twice; fewer than count - 1 where there are not so many values. NaN does not count. BadArgument for
// counts below 2 or above kMostMapClasses, and given breaks that do not ascend.
std::vector<double> class_breaks(const ClassBreaks& by, std::vector<double> values);
// "equal:5", "quantile:4", "natural:6". BadArgument for other text.
ClassBreaks parse_class_breaks(std::string_view text);

}  // namespace katoptra

#include <cmath>
#include <gtest/gtest.h>
#include <random>

#include "laz_items.hpp"

namespace katoptra::laz {
namespace {

// Shares by the definition: the unit is a whole division of the length, and the place one of the value by the unit.
SymbolModel::Share share_by_division(const SymbolModel& m, std::uint32_t value, std::uint32_t length) {
  const std::uint32_t unit = length >> SymbolModel::kShift;
  std::uint32_t s = 0;
  while (s < m.last() && m.begin(s + 1) <= value / unit) ++s;
  const std::uint32_t begin = m.begin(s) * unit;
  return {s, begin, (s == m.last() ? length : m.begin(s + 1) * unit) - begin};
}

TEST(LazCoder, SharesAreFoundAsByADivision) {
  std::mt19937 random(11);
  for (const std::uint32_t symbols : {2u, 3u, 5u, 16u, 17u, 33u, 64u, 65u, 128u, 256u, 515u}) {
    SymbolModel m;
    m.ready(symbols, true);
    for (int round = 0; round < 400; ++round) {
      // Shares from even to steep, with symbols that are hardly ever seen.
      for (int i = 0; i < 200; ++i) {
        const double u = random() / 4294967296.0;
        m.seen(static_cast<std::uint32_t>((round < 200 ? u : std::pow(u, 6)) * symbols));
      }
      const auto any = static_cast<std::uint32_t>(random());
      for (const std::uint32_t length :
           {kShortest, kShortest + 1, kLongest, any | 0x80000000u, any >> round % 8 | kShortest}) {
        const std::uint32_t unit = length >> SymbolModel::kShift, edge = m.begin(any % symbols) * unit;
        for (const std::uint32_t value : {0u, edge, edge - (edge > 0), (unit << SymbolModel::kShift) - 1, length - 1,
                                          static_cast<std::uint32_t>(random() % length)}) {
          const auto found = m.find(value, length), expected = share_by_division(m, value, length);
          ASSERT_EQ(found.symbol, expected.symbol) << symbols << " symbols, " << value << " of " << length;
          ASSERT_EQ(found.begin, expected.begin);
          ASSERT_EQ(found.width, expected.width);
        }
      }
    }
  }
}

TEST(LazCoder, RunningMediansAreThoseOfAList) {
  std::mt19937 random(5);
  constexpr std::int32_t kLeast = std::numeric_limits<std::int32_t>::min(), kMost = ~kLeast;
  RunningMedian median;
  std::vector<std::int32_t> list(5, 0);
  bool last_goes = true;
  for (int i = 0; i < 20000; ++i) {
    const std::int32_t v = i % 100 == 0   ? kLeast + i % 3
                           : i % 101 == 0 ? kMost
                                          : static_cast<std::int32_t>(random() % 41) - 20,
                       middle = list[2];
    list.erase(last_goes ? list.end() - 1 : list.begin());
    list.insert(std::upper_bound(list.begin(), list.end(), v), v);
    last_goes = v < middle || (v == middle && !last_goes);
    median.add(v);
    ASSERT_EQ(median.get(), list[2]) << "value " << i;
  }
}

}  // namespace
}  // namespace katoptra::laz

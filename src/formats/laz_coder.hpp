// The entropy coder below LAZ: adaptive arithmetic coding (Said 2004, "Introduction to arithmetic coding") of bits,
// symbols and raw bits, and differences of integers on top of it. Encoder and Decoder have the same calls and each
// gives back what was coded, so that one text describes a record in both directions.
//
// A decoder never reads beyond its bytes: it takes zeros there and says so with `overrun`.
#pragma once
#include <algorithm>
#include <bit>
#include <cstdint>
#include <cstring>
#include <limits>
#include <memory>
#include <span>
#include <vector>

namespace katoptra::laz {

inline constexpr std::uint32_t kShortest = 0x01000000, kLongest = 0xFFFFFFFF;

// The share of zeros among the bits seen so far.
class BitModel {
 public:
  static constexpr int kShift = 13;
  void reset() { *this = BitModel(); }
  std::uint32_t zeros() const { return probability_; }
  void seen(std::uint32_t bit) {
    zero_count_ += bit == 0;
    if (--until_update_ == 0) update();
  }

 private:
  void update() {
    if ((count_ += cycle_) > 1u << kShift) {
      count_ = (count_ + 1) >> 1;
      zero_count_ = (zero_count_ + 1) >> 1;
      if (zero_count_ == count_) ++count_;
    }
    probability_ = (zero_count_ * (0x80000000u / count_)) >> (31 - kShift);
    cycle_ = std::min((5 * cycle_) >> 2, 64u);
    until_update_ = cycle_;
  }
  std::uint32_t zero_count_ = 1, count_ = 2, probability_ = 1u << (kShift - 1), cycle_ = 4, until_update_ = 4;
};

// How often each of a set of symbols was seen; the shares are brought up to date in growing steps.
class SymbolModel {
 public:
  static constexpr int kShift = 15;

  // `decoding` adds the table that finds symbols.
  void prepare(std::uint32_t symbols, bool decoding) {
    if (symbols != symbols_) {
      symbols_ = symbols;
      table_bits_ = decoding && symbols > 16 && symbols <= 256 ? (symbols > 64 ? 10 : 8) : 0;
      memory_ = std::make_unique<std::uint32_t[]>(2 * symbols);
      if (table_bits_) table_ = std::make_unique<std::uint8_t[]>(std::size_t{1} << table_bits_);
    }
    total_ = 0;
    cycle_ = symbols;
    std::fill_n(counts(), symbols, 1u);
    update();
    cycle_ = until_update_ = (symbols + 6) >> 1;
  }
  bool is_ready() const { return symbols_ != 0; }
  std::uint32_t last() const { return symbols_ - 1; }
  // The symbol that comes more often than all others together; none where there is no such.
  std::uint32_t usual() const { return usual_; }
  static constexpr std::uint32_t kNoneUsual = 0xFFFFFFFF;
  // Where the symbol's share begins, in 1/2^kShift.
  std::uint32_t begin(std::uint32_t symbol) const { return memory_[symbol]; }

  // The symbol whose share holds `place`, which may be too large in damaged data.
  std::uint32_t find(std::uint32_t place) const {
    const std::uint32_t* from = memory_.get();
    std::uint32_t s = 0;
    if (table_bits_) {
      // The table leads to the first symbol that it can be; seldom is it another.
      s = table_[std::min(place, (1u << kShift) - 1) >> (kShift - table_bits_)];
      while (s + 1 < symbols_ && from[s + 1] <= place) ++s;
      return s;
    }
    if (symbols_ > 16) {
      std::uint32_t n = symbols_;
      while (n > s + 1) {
        const std::uint32_t k = (s + n) >> 1;
        if (from[k] > place)
          n = k;
        else
          s = k;
      }
      return s;
    }
    // Few symbols: counting those that begin at or before the place needs no decision.
    for (std::uint32_t k = 1; k < symbols_; ++k) s += from[k] <= place;
    return s;
  }
  void seen(std::uint32_t symbol) {
    ++counts()[symbol];
    if (--until_update_ == 0) update();
  }

 private:
  std::uint32_t* counts() { return memory_.get() + symbols_; }
  void update() {
    std::uint32_t* count = counts();
    if ((total_ += cycle_) > 1u << kShift) {
      total_ = 0;
      for (std::uint32_t i = 0; i < symbols_; ++i) total_ += (count[i] = (count[i] + 1) >> 1);
    }
    const std::uint32_t scale = 0x80000000u / total_;
    std::uint32_t sum = 0;
    usual_ = kNoneUsual;
    for (std::uint32_t i = 0; i < symbols_; ++i) {
      memory_[i] = (scale * sum) >> (31 - kShift);
      sum += count[i];
      // The last symbol has no end in the table and is left to the search.
      if (2 * count[i] > total_ && i + 1 < symbols_) usual_ = i;
    }
    if (table_bits_) update_table();
    cycle_ = std::min((5 * cycle_) >> 2, (symbols_ + 6) << 3);
    until_update_ = cycle_;
  }
  // table[t]: the last symbol whose share begins at or before the t-th piece of the line.
  void update_table() {
    const std::uint32_t size = 1u << table_bits_, piece = kShift - static_cast<std::uint32_t>(table_bits_);
    std::uint32_t filled = 0;
    for (std::uint32_t i = 1; i < symbols_; ++i) {
      const std::uint32_t until = (memory_[i] + (1u << piece) - 1) >> piece;
      while (filled < until) table_[filled++] = static_cast<std::uint8_t>(i - 1);
    }
    while (filled < size) table_[filled++] = static_cast<std::uint8_t>(symbols_ - 1);
  }

  std::uint32_t symbols_ = 0, total_ = 0, cycle_ = 0, until_update_ = 0, usual_ = kNoneUsual;
  int table_bits_ = 0;
  std::unique_ptr<std::uint32_t[]> memory_;  // begins, counts
  std::unique_ptr<std::uint8_t[]> table_;
};

class Encoder {
 public:
  static constexpr bool kDecodes = false;

  void start() {
    bytes_.clear();
    base_ = 0;
    length_ = kLongest;
  }
  std::uint32_t bit(BitModel& m, std::uint32_t b) {
    const std::uint32_t x = m.zeros() * (length_ >> BitModel::kShift);
    if (b == 0)
      forward(0, x);
    else
      forward(x, length_ - x);
    m.seen(b);
    return b;
  }
  std::uint32_t symbol(SymbolModel& m, std::uint32_t s) {
    const std::uint32_t unit = length_ >> SymbolModel::kShift;
    const std::uint32_t x = m.begin(s) * unit;
    forward(x, (s == m.last() ? length_ : m.begin(s + 1) * unit) - x);
    m.seen(s);
    return s;
  }
  std::uint32_t bits(int n, std::uint32_t value) {
    if (n > 19) {
      const std::uint32_t unit = length_ >> 16;
      forward((value & 0xFFFF) * unit, unit);
      const std::uint32_t rest = (length_ >> (n - 16));
      forward((value >> 16) * rest, rest);
    } else {
      const std::uint32_t unit = length_ >> n;
      forward(value * unit, unit);
    }
    return value;
  }
  std::uint32_t word(std::uint32_t value) { return bits(32, value); }

  // All that was coded; another start follows.
  const std::vector<std::uint8_t>& finish() {
    bool another = true;
    if (length_ > 2 * kShortest) {
      forward(kShortest, kShortest >> 1);
    } else {
      forward(kShortest >> 1, kShortest >> 9);
      another = false;
    }
    bytes_.insert(bytes_.end(), another ? 3 : 2, 0);
    return bytes_;
  }

 private:
  void forward(std::uint32_t by, std::uint32_t length) {
    const std::uint32_t before = base_;
    base_ += by;
    length_ = length;
    if (before > base_)
      for (std::size_t i = bytes_.size(); i > 0 && ++bytes_[i - 1] == 0;) --i;
    settle();
  }
  void settle() {
    while (length_ < kShortest) {
      bytes_.push_back(static_cast<std::uint8_t>(base_ >> 24));
      base_ <<= 8;
      length_ <<= 8;
    }
  }
  std::vector<std::uint8_t> bytes_;
  std::uint32_t base_ = 0, length_ = kLongest;
};

class Decoder {
 public:
  static constexpr bool kDecodes = true;

  void start(std::span<const std::uint8_t> bytes) {
    begin_ = at_ = bytes.data();
    end_ = at_ + bytes.size();
    overrun_ = 0;
    length_ = kLongest;
    value_ = 0;
    for (int i = 0; i < 4; ++i) value_ = value_ << 8 | next();
  }
  // Bytes asked for beyond the end, and bytes taken in all.
  std::size_t overrun() const { return overrun_; }
  std::size_t taken() const { return static_cast<std::size_t>(at_ - begin_); }

  std::uint32_t bit(BitModel& m, std::uint32_t = 0) {
    const std::uint32_t x = m.zeros() * (length_ >> BitModel::kShift);
    const std::uint32_t b = value_ >= x;
    if (b) {
      value_ -= x;
      length_ -= x;
    } else {
      length_ = x;
    }
    settle();
    m.seen(b);
    return b;
  }
  std::uint32_t symbol(SymbolModel& m, std::uint32_t = 0) {
    const std::uint32_t unit = length_ >> SymbolModel::kShift;
    if (const std::uint32_t s = m.usual(); s != SymbolModel::kNoneUsual) {
      // Without a division: does the value lie in the share of the usual symbol?
      const std::uint32_t x = m.begin(s) * unit, width = m.begin(s + 1) * unit - x;
      if (value_ - x < width) {
        length_ = width;
        value_ -= x;
        settle();
        m.seen(s);
        return s;
      }
    }
    const std::uint32_t s = m.find(value_ / unit);
    const std::uint32_t x = m.begin(s) * unit;
    length_ = (s == m.last() ? length_ : m.begin(s + 1) * unit) - x;
    value_ -= x;
    settle();
    m.seen(s);
    return s;
  }
  std::uint32_t bits(int n, std::uint32_t = 0) {
    if (n <= 19) return few_bits(n);
    const std::uint32_t low = few_bits(16);
    return few_bits(n - 16) << 16 | low;
  }
  std::uint32_t word(std::uint32_t = 0) { return bits(32); }

 private:
  std::uint32_t few_bits(int n) {
    length_ >>= n;
    const std::uint32_t v = value_ / length_;
    value_ -= v * length_;
    settle();
    return v & ((1u << n) - 1);
  }
  std::uint32_t next() {
    if (at_ < end_) return *at_++;
    ++overrun_;
    return 0;
  }
  // Takes as many bytes as the length has become short of; away from the end without deciding how many.
  [[gnu::always_inline]] void settle() {
    const int n = std::countl_zero(length_) & ~7;
    if (end_ - at_ >= 4) [[likely]] {
      std::uint32_t word = 0;
      std::memcpy(&word, at_, 4);
      word = __builtin_bswap32(word);
      value_ = static_cast<std::uint32_t>(((static_cast<std::uint64_t>(value_) << 32 | word) << n) >> 32);
      length_ <<= n;
      at_ += n / 8;
      return;
    }
    while (length_ < kShortest) {
      value_ = value_ << 8 | next();
      length_ <<= 8;
    }
  }
  const std::uint8_t *begin_ = nullptr, *at_ = nullptr, *end_ = nullptr;
  std::size_t overrun_ = 0;
  std::uint32_t value_ = 0, length_ = kLongest;
};

// An integer by its difference from what was expected: first how many bits the difference has, then the difference,
// its upper eight bits by a model and the rest as they are.
class IntegerModel {
 public:
  IntegerModel(int bits, std::uint32_t contexts, bool decoding)
      : bits_(bits), decoding_(decoding), sizes_(contexts), uppers_(static_cast<std::size_t>(bits) + 1) {}

  void reset() {
    for (Lazy& m : sizes_) m.fresh = false;
    for (Lazy& m : uppers_) m.fresh = false;
    smallest_.reset();
    size_ = 0;
  }
  // How many bits the last difference had.
  std::uint32_t size() const { return size_; }

  template <class Coder>
  std::int32_t code(Coder& c, std::int32_t expected, std::int32_t value, std::uint32_t context) {
    std::uint32_t difference = static_cast<std::uint32_t>(value) - static_cast<std::uint32_t>(expected);
    if (bits_ < 32) {
      // Differences count around the circle of the type, from -half to half - 1.
      const std::uint32_t mask = (1u << bits_) - 1, half = 1u << (bits_ - 1);
      if constexpr (!Coder::kDecodes) difference = ((difference + half) & mask) - half;
    }
    const std::uint32_t coded =
        static_cast<std::uint32_t>(difference_of(c, static_cast<std::int32_t>(difference), context));
    const std::uint32_t result = static_cast<std::uint32_t>(expected) + coded;
    return static_cast<std::int32_t>(bits_ < 32 ? result & ((1u << bits_) - 1) : result);
  }

 private:
  struct Lazy {
    SymbolModel model;
    bool fresh = false;  // reset for this chunk
  };
  SymbolModel& ready(Lazy& m, std::uint32_t symbols) {
    if (!m.fresh) {
      m.model.prepare(symbols, decoding_);
      m.fresh = true;
    }
    return m.model;
  }
  static constexpr int kUpper = 8;

  // A difference of k bits lies in [-(2^k - 1), -2^(k-1)] or [2^(k-1) + 1, 2^k].
  template <class Coder>
  std::int32_t difference_of(Coder& c, std::int32_t d, std::uint32_t context) {
    std::uint32_t k = 0;
    if constexpr (!Coder::kDecodes)
      k = static_cast<std::uint32_t>(
          std::bit_width(d <= 0 ? 0u - static_cast<std::uint32_t>(d) : static_cast<std::uint32_t>(d) - 1));
    k = size_ = c.symbol(ready(sizes_[context], static_cast<std::uint32_t>(bits_) + 1), k);
    if (k == 0) return static_cast<std::int32_t>(c.bit(smallest_, static_cast<std::uint32_t>(d)));
    if (k >= 32) return std::numeric_limits<std::int32_t>::min();
    const std::uint32_t reach = (1u << k) - 1;
    std::uint32_t place = 0;
    if constexpr (!Coder::kDecodes)
      place = d < 0 ? static_cast<std::uint32_t>(d) + reach : static_cast<std::uint32_t>(d) - 1;
    const int low = static_cast<int>(k) - kUpper;
    if (low <= 0) {
      place = c.symbol(ready(uppers_[k], 1u << k), place);
    } else {
      const std::uint32_t upper = c.symbol(ready(uppers_[k], 1u << kUpper), place >> low);
      place = upper << low | c.bits(low, place & ((1u << low) - 1));
    }
    return static_cast<std::int32_t>(place >= 1u << (k - 1) ? place + 1 : place - reach);
  }

  int bits_;
  bool decoding_;
  std::uint32_t size_ = 0;
  std::vector<Lazy> sizes_, uppers_;
  BitModel smallest_;
};

}  // namespace katoptra::laz

// The entropy coder below LAZ: adaptive arithmetic coding (Said 2004, "Introduction to arithmetic coding") of bits,
// symbols and raw bits, and differences of integers on top of it. Encoder and Decoder have the same calls and each
// gives back what was coded, so that one text describes a record in both directions.
//
// A decoder never reads beyond its bytes: it takes zeros there and says so with `overrun`.
#pragma once
#include <algorithm>
#include <array>
#include <bit>
#include <cstdint>
#include <cstring>
#include <functional>
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

// of[i]: 2^26 by 1025 + i, which is less than the reciprocal of any number whose first eleven bits are 1024 + i.
struct Reciprocals {
  std::uint16_t of[1024];
  constexpr Reciprocals() : of() {
    for (std::uint32_t i = 0; i < 1024; ++i) of[i] = static_cast<std::uint16_t>((1u << 26) / (1025 + i));
  }
};
inline constexpr Reciprocals kReciprocals;

// How often each of a set of symbols was seen; the shares are brought up to date in growing steps.
class alignas(64) SymbolModel {
 public:
  static constexpr int kShift = 15;

  // The model, made anew where it was forgotten; `decoding` adds the table that finds symbols.
  [[gnu::always_inline]] SymbolModel& ready(std::uint32_t symbols, bool decoding) {
    if (!ready_) [[unlikely]]
      prepare(symbols, decoding);
    return *this;
  }
  bool is_ready() const { return ready_; }
  void forget() { ready_ = false; }
  std::uint32_t last() const { return symbols_ - 1; }
  // The symbol that comes nearly always, where its share begins and how much it is: nothing where there is no such.
  std::uint32_t usual() const { return usual_; }
  std::uint32_t usual_begin() const { return usual_begin_; }
  std::uint32_t usual_share() const { return usual_share_; }
  // Where the symbol's share begins, in 1/2^kShift; that of the one behind the last is never reached.
  std::uint32_t begin(std::uint32_t symbol) const { return memory_[symbol]; }

  // A share of the line: a symbol, where its share begins and how long it is, in units of a decoder.
  struct Share {
    std::uint32_t symbol, begin, width;
  };
  // The share that holds `value`, on a line of `length` (at least 2^24), of which 2^kShift units are told to symbols
  // and what is left belongs to the last. Without a division: a table of reciprocals leads to a piece of the line that
  // is this one or a little before it, the piece to the first symbol that it can be, and products of whole numbers
  // decide.
  [[gnu::always_inline]] Share find(std::uint32_t value, std::uint32_t length) const {
    const std::uint16_t* from = memory_.get();
    const std::uint64_t unit = length >> kShift;
    const int n = std::countl_zero(length);
    const std::uint64_t about = std::uint64_t{value << n} * kReciprocals.of[(length << n >> 21) - 1024];
    std::uint32_t s = table_[about >> from_about_];
    std::uint64_t x = from[s] * unit, next = from[s + 1] * unit;
    while (next <= value) {
      x = next;
      next = from[++s + 1] * unit;
    }
    return {s, static_cast<std::uint32_t>(x),
            static_cast<std::uint32_t>(std::min<std::uint64_t>(next, length)) - static_cast<std::uint32_t>(x)};
  }
  void seen(std::uint32_t symbol) {
    ++counts_[symbol];
    if (--until_update_ == 0) [[unlikely]]
      update();
  }

 private:
  static constexpr std::size_t kSpare = 16, kSentinels = 1;
  [[gnu::noinline]] void prepare(std::uint32_t symbols, bool decoding) {
    if (symbols != symbols_) {
      symbols_ = symbols;
      table_bits_ = !decoding ? 0 : symbols > 64 ? 8 : symbols > 16 ? 7 : 5;
      from_about_ = 26 + 21 - table_bits_;  // reciprocals count in 1/2^26, of lengths in 2^21
      memory_ = std::make_unique<std::uint16_t[]>(2 * symbols + kSentinels);
      counts_ = memory_.get() + symbols + kSentinels;
      if (table_bits_) table_ = std::make_unique<std::uint8_t[]>((std::size_t{1} << table_bits_) + kSpare);
    }
    total_ = 0;
    cycle_ = symbols;
    std::fill_n(counts_, symbols, std::uint16_t{1});
    std::fill_n(memory_.get() + symbols, kSentinels, std::uint16_t{0xFFFF});
    update();
    cycle_ = until_update_ = (symbols + 6) >> 1;
    ready_ = true;
  }
  [[gnu::noinline]] void update() {
    std::uint16_t* count = counts_;
    if ((total_ += cycle_) > 1u << kShift) {
      total_ = 0;
      for (std::uint32_t i = 0; i < symbols_; ++i)
        total_ += (count[i] = static_cast<std::uint16_t>((count[i] + 1u) >> 1));
    }
    const std::uint32_t scale = 0x80000000u / total_;
    std::uint32_t sum = 0, most = 0;
    for (std::uint32_t i = 0; i < symbols_; ++i) {
      memory_[i] = static_cast<std::uint16_t>((scale * sum) >> (31 - kShift));
      sum += count[i];
      most = std::max<std::uint32_t>(most, count[i] << 16 | i);
    }
    usual_ = most & 0xFFFF;
    usual_begin_ = begin(usual_);
    // The last symbol has no end in the table and is left to the search.
    usual_share_ = 16 * (most >> 16) > 15 * total_ && usual_ < last() ? begin(usual_ + 1) - usual_begin_ : 0;
    if (table_bits_) update_table();
    cycle_ = std::min((5 * cycle_) >> 2, (symbols_ + 6) << 3);
    until_update_ = cycle_;
  }
  // table[t]: the last symbol whose share begins at or before the t-th piece of the line; for alphabets of more than
  // 256 at most the 256th, from which the search goes on.
  void update_table() {
    const int piece = kShift - table_bits_;
    const std::uint32_t size = (1u << table_bits_) + 4;
    std::uint32_t filled = 0;
    for (std::uint32_t i = 1; i <= symbols_; ++i) {
      const std::uint32_t until = i == symbols_ ? size : (memory_[i] + (1u << piece) - 1) >> piece;
      const std::uint64_t eight = 0x0101010101010101u * std::min(i - 1, 255u);
      std::memcpy(table_.get() + filled, &eight, 8);
      for (filled += 8; filled < until; filled += 8) std::memcpy(table_.get() + filled, &eight, 8);
      filled = until;
    }
  }

  std::uint32_t symbols_ = 0, total_ = 0, cycle_ = 0, until_update_ = 0, usual_ = 0, usual_begin_ = 0, usual_share_ = 0;
  std::uint8_t table_bits_ = 0, from_about_ = 0;
  bool ready_ = false;
  std::unique_ptr<std::uint16_t[]> memory_;  // begins, counts
  std::uint16_t* counts_ = nullptr;
  std::unique_ptr<std::uint8_t[]> table_;
};

class Encoder {
 public:
  static constexpr bool kDecodes = false;

  void start() {
    if (bytes_.empty()) bytes_.resize(kRoom);
    at_ = bytes_.data();
    room_end_ = at_ + bytes_.size() - kMostAtOnce;
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
  std::uint32_t symbol_of_many(SymbolModel& m, std::uint32_t s) { return symbol(m, s); }
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
  std::span<const std::uint8_t> finish() {
    bool another = true;
    if (length_ > 2 * kShortest) {
      forward(kShortest, kShortest >> 1);
    } else {
      forward(kShortest >> 1, kShortest >> 9);
      another = false;
    }
    if (at_ > room_end_) grow();
    const std::ptrdiff_t zeros = another ? 3 : 2;
    std::memset(at_, 0, static_cast<std::size_t>(zeros));
    return {bytes_.data(), static_cast<std::size_t>(at_ + zeros - bytes_.data())};
  }

 private:
  void forward(std::uint32_t by, std::uint32_t length) {
    const std::uint32_t before = base_;
    base_ += by;
    length_ = length;
    if (before > base_) [[unlikely]]
      carry();
    settle();
  }
  void carry() {
    for (std::uint8_t* p = at_; p > bytes_.data() && ++p[-1] == 0;) --p;
  }
  // Gives as many bytes as the length has become short of, without deciding how many: four are written, and those of
  // them that do not count yet are written over.
  void settle() {
    if (at_ > room_end_) [[unlikely]]
      grow();
    const int n = std::countl_zero(length_) & 24;
    const std::uint32_t word = __builtin_bswap32(base_);
    std::memcpy(at_, &word, sizeof word);
    at_ += n / 8;
    base_ <<= n;
    length_ <<= n;
  }
  [[gnu::noinline]] void grow() {
    const std::ptrdiff_t used = at_ - bytes_.data();
    bytes_.resize(2 * bytes_.size());
    at_ = bytes_.data() + used;
    room_end_ = bytes_.data() + bytes_.size() - kMostAtOnce;
  }
  static constexpr std::size_t kRoom = 4096, kMostAtOnce = 4;
  std::vector<std::uint8_t> bytes_;
  std::uint8_t *at_ = nullptr, *room_end_ = nullptr;
  std::uint32_t base_ = 0, length_ = kLongest;
};

// The next bytes of a stream: as many as there is room for, fewer only at its end.
using Feed = std::function<std::size_t(std::span<std::uint8_t>)>;

class Decoder {
 public:
  static constexpr bool kDecodes = true;

  [[gnu::noinline]] void start(std::span<const std::uint8_t> bytes) {
    bytes_.assign(bytes.begin(), bytes.end());
    end_after(bytes.size());
    dropped_ = 0;
    ended_ = true;
    begin();
  }
  // Of a stream that comes little by little: `ahead` bytes are there until it is refilled, or all that are left.
  [[gnu::noinline]] void start(const Feed& feed, std::size_t ahead) {
    bytes_.clear();
    end_after(0);
    dropped_ = 0;
    ended_ = false;
    refill(feed, ahead);
    begin();
  }
  [[gnu::noinline]] void refill(const Feed& feed, std::size_t ahead) {
    const std::ptrdiff_t left = last_ - kBeyond - at_;
    if (ended_ || left >= static_cast<std::ptrdiff_t>(ahead)) return;
    const std::ptrdiff_t used = at_ - bytes_.data();
    bytes_.erase(bytes_.begin(), bytes_.begin() + used);
    dropped_ += static_cast<std::uint64_t>(used);
    const std::size_t kept = static_cast<std::size_t>(left), asked = 4 * ahead;
    bytes_.resize(kept + asked);
    const std::size_t came = feed(std::span(bytes_).subspan(kept));
    ended_ = came < asked;
    end_after(kept + came);
  }
  // Bytes asked for beyond the end (kBeyond for more than that), and bytes taken in all.
  std::size_t overrun() const { return static_cast<std::size_t>(std::max<std::ptrdiff_t>(at_ - last_ + kBeyond, 0)); }
  std::uint64_t taken() const { return dropped_ + static_cast<std::uint64_t>(at_ - bytes_.data()) - overrun(); }

  std::uint32_t bit(BitModel& m, std::uint32_t = 0) {
    const std::uint32_t x = m.zeros() * (length_ >> BitModel::kShift);
    const std::uint32_t b = value_ >= x, all = 0u - b;
    settle(value_ - (x & all), x + ((length_ - 2 * x) & all));
    m.seen(b);
    return b;
  }
  [[gnu::always_inline]] std::uint32_t symbol(SymbolModel& m, std::uint32_t = 0) {
    const std::uint32_t unit = length_ >> SymbolModel::kShift;
    // Does the value lie in the share of the usual symbol?
    SymbolModel::Share share{m.usual(), m.usual_begin() * unit, m.usual_share() * unit};
    if (value_ - share.begin >= share.width) share = m.find(value_, length_);
    settle(value_ - share.begin, share.width);
    m.seen(share.symbol);
    return share.symbol;
  }
  // The same where no symbol comes nearly always.
  [[gnu::always_inline]] std::uint32_t symbol_of_many(SymbolModel& m, std::uint32_t = 0) {
    const SymbolModel::Share share = m.find(value_, length_);
    settle(value_ - share.begin, share.width);
    m.seen(share.symbol);
    return share.symbol;
  }
  std::uint32_t bits(int n, std::uint32_t = 0) {
    if (n <= 19) return few_bits(n);
    const std::uint32_t low = few_bits(16);
    return few_bits(n - 16) << 16 | low;
  }
  std::uint32_t word(std::uint32_t = 0) { return bits(32); }

 private:
  // Zeros behind the bytes that are there, and to the first of them.
  void end_after(std::size_t size) {
    bytes_.resize(size);
    bytes_.resize(size + kBeyond + 4, 0);
    at_ = bytes_.data();
    last_ = at_ + size + kBeyond;
  }
  void begin() {
    length_ = kLongest;
    value_ = 0;
    for (int i = 0; i < 4; ++i) value_ = value_ << 8 | *at_++;
    // Below the length, as everything behind this relies on; damaged data may begin otherwise.
    value_ = std::min(value_, length_ - 1);
  }
  std::uint32_t few_bits(int n) {
    const std::uint32_t unit = length_ >> n, v = value_ / unit;
    settle(value_ - v * unit, unit);
    return v & ((1u << n) - 1);
  }
  // Takes as many bytes as the length has become short of, without deciding how many.
  [[gnu::always_inline]] void settle(std::uint32_t value, std::uint32_t length) {
    const std::uint32_t n = static_cast<std::uint32_t>(std::countl_zero(length | 1)) & 24;
    std::uint32_t word = 0;
    std::memcpy(&word, at_, 4);
    word = __builtin_bswap32(word);
    value_ = static_cast<std::uint32_t>(((std::uint64_t{value} << 32 | word) << n) >> 32);
    length_ = length << n;
    const std::uint8_t* at = at_ + n / 8;
    at_ = at < last_ ? at : last_;
  }
  static constexpr std::ptrdiff_t kBeyond = 16;  // zeros that are given behind the end before it stops there
  std::vector<std::uint8_t> bytes_;              // and zeros behind them
  const std::uint8_t *at_ = nullptr, *last_ = nullptr;
  std::uint32_t value_ = 0, length_ = kLongest;
  std::uint64_t dropped_ = 0;  // bytes before those that are there
  bool ended_ = true;          // nothing comes behind them
};

// An integer by its difference from what was expected: first how many bits the difference has, then the difference,
// its upper eight bits by a model and the rest as they are.
template <class Coder, int kBits, std::size_t kContexts>
class IntegerModel {
 public:
  void reset() {
    for (SymbolModel& m : sizes_) m.forget();
    for (SymbolModel& m : uppers_) m.forget();
    smallest_.reset();
  }

  // A value in three turns, so that other streams can take theirs in between: how many bits its difference has, the
  // upper ones of them, and the rest.
  struct Turn {
    std::uint32_t size = 0, place = 0;
    std::int32_t difference = 0;
    void decoded(std::uint32_t at) {
      place = at;
      difference = static_cast<std::int32_t>(at + 1 - (((at >> (size - 1)) ^ 1) << size));
    }
  };
  [[gnu::always_inline]] Turn code_size(Coder& c, std::int32_t expected, std::int32_t value, std::uint32_t context) {
    Turn t;
    if constexpr (!Coder::kDecodes) {
      std::uint32_t d = static_cast<std::uint32_t>(value) - static_cast<std::uint32_t>(expected);
      // Differences count around the circle of the type, from -half to half - 1.
      constexpr std::uint32_t kHalf = 1u << (kBits - 1);
      if constexpr (kBits < 32) d = ((d + kHalf) & ((1u << kBits) - 1)) - kHalf;
      t.difference = static_cast<std::int32_t>(d);
      t.size = static_cast<std::uint32_t>(std::bit_width(t.difference <= 0 ? 0u - d : d - 1));
    }
    t.size = c.symbol(sizes_[context].ready(kBits + 1, Coder::kDecodes), t.size);
    return t;
  }
  // A difference of k bits lies in [-(2^k - 1), -2^(k-1)] or [2^(k-1) + 1, 2^k].
  [[gnu::always_inline]] void code_upper(Coder& c, Turn& t) {
    const std::uint32_t k = t.size;
    if (k - 1 >= 31) {
      t.difference = k == 0 ? static_cast<std::int32_t>(c.bit(smallest_, static_cast<std::uint32_t>(t.difference)))
                            : std::numeric_limits<std::int32_t>::min();
      return;
    }
    SymbolModel& model = uppers_[k];
    if (!model.is_ready()) [[unlikely]]
      model.ready(1u << std::min(k, kUpper), Coder::kDecodes);
    const std::uint32_t low = std::max(k, kUpper) - kUpper;
    if constexpr (!Coder::kDecodes)
      t.place = static_cast<std::uint32_t>(t.difference) + (t.difference < 0 ? (1u << k) - 1 : 0xFFFFFFFF);
    const std::uint32_t upper = c.symbol_of_many(model, t.place >> low);
    if constexpr (Coder::kDecodes) t.decoded(upper << low);
  }
  [[gnu::always_inline]] std::int32_t code_rest(Coder& c, std::int32_t expected, Turn& t) {
    const std::uint32_t k = t.size;
    if (k > kUpper && k < 32) {
      const int low = static_cast<int>(k - kUpper);
      const std::uint32_t rest = c.bits(low, t.place & ((1u << low) - 1));
      if constexpr (Coder::kDecodes) t.decoded(t.place | rest);
    }
    const std::uint32_t result = static_cast<std::uint32_t>(expected) + static_cast<std::uint32_t>(t.difference);
    if constexpr (kBits < 32) return static_cast<std::int32_t>(result & ((1u << kBits) - 1));
    return static_cast<std::int32_t>(result);
  }
  std::int32_t code(Coder& c, std::int32_t expected, std::int32_t value, std::uint32_t context) {
    Turn t = code_size(c, expected, value, context);
    code_upper(c, t);
    return code_rest(c, expected, t);
  }

 private:
  static constexpr std::uint32_t kUpper = 8;

  std::array<SymbolModel, kContexts> sizes_;
  std::array<SymbolModel, kBits + 1> uppers_;
  BitModel smallest_;
};

}  // namespace katoptra::laz

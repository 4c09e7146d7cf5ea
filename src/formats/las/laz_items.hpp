// The items of compressed records, each coded by what changed since the record before. One text serves both directions:
// with a Decoder the record is filled, with an Encoder it is read.
#pragma once
#include <array>
#include <cstdlib>
#include <cstring>

#include "laz_chunk.hpp"
#include "laz_coder.hpp"

namespace katoptra::laz {

static_assert(std::endian::native == std::endian::little, "records are handled as they stand in files");

template <class T>
T load(const std::uint8_t* p) {
  T v;
  std::memcpy(&v, p, sizeof v);
  return v;
}
template <class T>
void store(std::uint8_t* p, T v) {
  std::memcpy(p, &v, sizeof v);
}
inline std::uint8_t wrapped(int v) { return static_cast<std::uint8_t>(v); }
inline int clamped(int v) { return std::clamp(v, 0, 255); }

// The middle one of the last five values, nearly: values leave at alternating ends.
class RunningMedian {
 public:
  void reset() { *this = RunningMedian(); }
  std::int32_t get() const { return v_[2]; }
  // Put in order among the four that stay, all at once: a decision would be guessed wrongly every other time.
  void add(std::int32_t v) {
    Four stay;
    std::memcpy(&stay, v_ + !drop_high_, sizeof stay);
    drop_high_ = (v < v_[2]) | (!drop_high_ & (v == v_[2]));
    const Four all = {v, v, v, v};
    const Four lower = stay < all ? stay : all;
    const Four behind = {lower[1], lower[2], lower[3], v};
    const Four higher = stay > behind ? stay : behind;
    v_[0] = lower[0];
    std::memcpy(v_ + 1, &higher, sizeof higher);
  }

 private:
  using Four = std::int32_t __attribute__((vector_size(16)));
  std::int32_t v_[5] = {};
  bool drop_high_ = true;
};

// Models of one size that are made when they are first asked for in a chunk.
template <class Coder, std::size_t kModels, std::uint32_t kSymbols>
class ModelSet {
 public:
  void reset() {
    for (SymbolModel& m : models_) m.forget();
  }
  SymbolModel& operator[](std::size_t i) { return models_[i].ready(kSymbols, Coder::kDecodes); }

 private:
  std::array<SymbolModel, kModels> models_;
};
template <class... Models>
void reset_all(Models&... models) {
  (models.reset(), ...);
}

inline std::int32_t wide_step(std::int32_t step, int times) {
  return static_cast<std::int32_t>(static_cast<std::uint32_t>(step) * static_cast<std::uint32_t>(times));
}
inline std::uint32_t even(std::uint32_t v) { return v & ~1u; }

// ---- times

// Times of interleaved sequences: each of the last four has its usual step, and a time is told as a multiple of it.
// `kChanges`: another item says whether the time changed at all (formats 6 and above).
template <class Coder, bool kChanges>
class TimeCoder {
  static constexpr int kMost = 500, kLeast = -10;
  static constexpr int kUnchanged = kMost - kLeast + 1;
  static constexpr int kNew = kChanges ? kMost - kLeast + 1 : kMost - kLeast + 2;
  static constexpr int kAll = kNew + 4;
  // Symbols while the usual step is not known: (same,) step of 32 bits, new sequence, one of the three others.
  static constexpr int kFirst = kChanges ? 0 : 1;

 public:
  void reset(std::uint64_t first) {
    reset_all(multiples_, starts_, steps_);
    at_ = newest_ = 0;
    last_ = {first, 0, 0, 0};
    step_ = {};
    odd_ = {};
  }
  std::uint64_t last() const { return last_[at_]; }

  std::uint64_t code(Coder& c, std::uint64_t time) {
    // A change to another sequence is followed by the time in that one; damaged data could do nothing else.
    for (int turn = 0; turn < 8; ++turn)
      if (step_[at_] == 0 ? start(c, time) : go_on(c, time)) return last_[at_];
    return last_[at_];
  }

 private:
  static bool fits(std::uint64_t from, std::uint64_t to, std::int32_t& difference) {
    const auto d = static_cast<std::int64_t>(to - from);
    difference = static_cast<std::int32_t>(d);
    return d == difference;
  }
  // Which of the other three sequences (1 to 3 on) the time is near to; 0 for none.
  int other_near(std::uint64_t time) const {
    std::int32_t d = 0;
    for (int i = 1; i < 4; ++i)
      if (fits(last_[(at_ + i) & 3], time, d)) return i;
    return 0;
  }
  void add(std::int32_t d) { last_[at_] += static_cast<std::uint64_t>(static_cast<std::int64_t>(d)); }
  [[gnu::noinline]] void new_sequence(Coder& c, std::uint64_t time) {
    const int next = (newest_ + 1) & 3;
    const auto high = static_cast<std::uint32_t>(
        steps_.code(c, static_cast<std::int32_t>(last_[at_] >> 32), static_cast<std::int32_t>(time >> 32), 8));
    newest_ = at_ = next;
    last_[at_] = static_cast<std::uint64_t>(high) << 32 | c.word(static_cast<std::uint32_t>(time));
    step_[at_] = 0;
    odd_[at_] = 0;
  }

  bool start(Coder& c, std::uint64_t time) {
    int how = 0;
    std::int32_t d = 0;
    if constexpr (!Coder::kDecodes) {
      if (!kChanges && time == last_[at_])
        how = -1;
      else if (fits(last_[at_], time, d))
        how = 0;
      else if (const int other = other_near(time))
        how = 1 + other;
      else
        how = 1;
    }
    how = static_cast<int>(c.symbol(starts_[0], static_cast<std::uint32_t>(how + kFirst))) - kFirst;
    if (how < 0) return true;
    if (how == 0) {
      step_[at_] = steps_.code(c, 0, d, 0);
      add(step_[at_]);
      odd_[at_] = 0;
      return true;
    }
    if (how == 1) {
      new_sequence(c, time);
      return true;
    }
    at_ = (at_ + how - 1) & 3;
    return false;
  }

  bool go_on(Coder& c, std::uint64_t time) {
    std::int32_t d = 0;
    int symbol = 0;
    if constexpr (!Coder::kDecodes) {
      if (!kChanges && time == last_[at_]) {
        symbol = kUnchanged;
      } else if (fits(last_[at_], time, d)) {
        const float times = static_cast<float>(d) / static_cast<float>(step_[at_]);
        const int multiple = static_cast<int>(std::clamp(times >= 0 ? times + 0.5f : times - 0.5f, -1e6f, 1e6f));
        symbol = multiple >= 0 ? std::min(multiple, kMost) : kMost - std::max(multiple, kLeast);
      } else {
        symbol = kNew + other_near(time);
      }
    }
    symbol = static_cast<int>(c.symbol(multiples_[0], static_cast<std::uint32_t>(symbol)));
    if (symbol > kNew) {
      at_ = (at_ + symbol - kNew) & 3;
      return false;
    }
    if (symbol == kNew) {
      new_sequence(c, time);
    } else if (symbol == 1) {
      add(steps_.code(c, step_[at_], d, 1));
      odd_[at_] = 0;
    } else if (kChanges || symbol != kUnchanged) {
      const int multiple = symbol <= kMost ? symbol : kMost - symbol;
      const std::uint32_t context = symbol == 0         ? 7
                                    : symbol < 10       ? 2
                                    : symbol < kMost    ? 3
                                    : symbol == kMost   ? 4
                                    : multiple > kLeast ? 5
                                                        : 6;
      d = steps_.code(c, wide_step(step_[at_], multiple), d, context);
      add(d);
      const bool is_odd = context == 7 || context == 4 || context == 6;
      if (is_odd && ++odd_[at_] > 3) {
        step_[at_] = d;
        odd_[at_] = 0;
      }
    }
    return true;
  }

  ModelSet<Coder, 1, kAll> multiples_;
  ModelSet<Coder, 1, kFirst + 5> starts_;
  IntegerModel<Coder, 32, 9> steps_;
  int at_ = 0, newest_ = 0;
  std::array<std::uint64_t, 4> last_{};
  std::array<std::int32_t, 4> step_{};
  std::array<int, 4> odd_{};
};

// ---- colours: the bytes that changed, green by the change of red, blue by those of both

template <class Coder>
class ColourCoder {
 public:
  void reset() { reset_all(used_, bytes_); }
  void code(Coder& c, const std::uint8_t* last, std::uint8_t* rgb) {
    // Little-endian pairs: byte 2 i is the low one of channel i, byte 2 i + 1 the high one.
    std::uint32_t changed = 0;
    if constexpr (!Coder::kDecodes) {
      for (int i = 0; i < 6; ++i) changed |= static_cast<std::uint32_t>(last[i] != rgb[i]) << i;
      changed |= static_cast<std::uint32_t>(std::memcmp(rgb, rgb + 2, 2) != 0 || std::memcmp(rgb, rgb + 4, 2) != 0)
                 << 6;
    }
    changed = c.symbol(used_[0], changed);
    std::uint8_t out[6];
    for (int half = 0; half < 2; ++half)
      out[half] = changed >> half & 1 ? step(c, half, last[half], rgb[half]) : last[half];
    if (changed & 64) {
      int by[2] = {out[0] - last[0], out[1] - last[1]};
      // The order of the stream: low bytes of green and blue, then their high bytes.
      for (int half = 0; half < 2; ++half) {
        const int g = 2 + half, b = 4 + half;
        out[g] = changed >> g & 1 ? step(c, g, clamped(by[half] + last[g]), rgb[g]) : last[g];
        by[half] = (by[half] + out[g] - last[g]) / 2;
        out[b] = changed >> b & 1 ? step(c, b, clamped(by[half] + last[b]), rgb[b]) : last[b];
      }
    } else {
      for (int i = 2; i < 6; ++i) out[i] = out[i & 1];
    }
    if constexpr (Coder::kDecodes) std::memcpy(rgb, out, 6);
  }

 private:
  std::uint8_t step(Coder& c, int model, int expected, int value) {
    return wrapped(expected +
                   static_cast<int>(c.symbol(bytes_[static_cast<std::size_t>(model)], wrapped(value - expected))));
  }
  ModelSet<Coder, 1, 128> used_;
  ModelSet<Coder, 6, 256> bytes_;
};

}  // namespace katoptra::laz

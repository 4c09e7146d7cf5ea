// The core items of compressed records: Point10 (point formats 0 to 5, one stream) and Point14 (6 and above, a layer a
// field).
#pragma once
#include <memory>
#include <optional>

#include "laz_items.hpp"

namespace katoptra::laz {

// A coordinate by its step from the one before, as against the running median of steps.
template <class Coder>
void code_step(Coder& c, IntegerModel& model, RunningMedian& steps, std::uint8_t* last, const std::uint8_t* now,
               std::uint32_t context) {
  const auto before = load<std::uint32_t>(last);
  const std::int32_t d =
      model.code(c, steps.get(), static_cast<std::int32_t>(load<std::uint32_t>(now) - before), context);
  store(last, before + static_cast<std::uint32_t>(d));
  steps.add(d);
}

// ---- point formats 0 to 5

// Which running median a return uses, by its number and the number of returns of its pulse; and how far it is from the
// last of them.
inline constexpr std::uint8_t kReturnMap[8][8] = {{15, 14, 13, 12, 11, 10, 9, 8},  {14, 0, 1, 3, 6, 10, 10, 9},
                                                  {13, 1, 2, 4, 7, 11, 11, 10},    {12, 3, 4, 5, 8, 12, 12, 11},
                                                  {11, 6, 7, 8, 9, 13, 13, 12},    {10, 10, 11, 12, 13, 14, 14, 13},
                                                  {9, 10, 11, 12, 13, 14, 15, 14}, {8, 9, 10, 11, 12, 13, 14, 15}};

template <class Coder>
class Point10Coder {
 public:
  static constexpr std::size_t kSize = 20;
  explicit Point10Coder(bool d)
      : changed_(1, 64, d),
        bits_(256, 256, d),
        classes_(256, 256, d),
        users_(256, 256, d),
        angles_(2, 256, d),
        intensity_(16, 4, d),
        source_(16, 1, d),
        dx_(32, 2, d),
        dy_(32, 22, d),
        z_(32, 20, d) {}

  void reset(const std::uint8_t* first) {
    for (ModelSet* m : {&changed_, &bits_, &classes_, &users_, &angles_}) m->reset();
    for (IntegerModel* m : {&intensity_, &source_, &dx_, &dy_, &z_}) m->reset();
    for (int i = 0; i < 16; ++i) {
      x_steps_[i].reset();
      y_steps_[i].reset();
      last_intensity_[i] = 0;
    }
    std::fill_n(last_z_, 8, 0);
    std::memcpy(last_, first, kSize);
    store<std::uint16_t>(last_ + 12, 0);
  }

  void code(Coder& c, std::uint8_t* r) {
    constexpr bool kDecodes = Coder::kDecodes;
    std::uint32_t changed = 0;
    if constexpr (!kDecodes) {
      const std::uint16_t before = last_intensity_[kReturnMap[r[14] >> 3 & 7][r[14] & 7]];
      changed = static_cast<std::uint32_t>(r[14] != last_[14]) << 5 |
                static_cast<std::uint32_t>(load<std::uint16_t>(r + 12) != before) << 4 |
                static_cast<std::uint32_t>(r[15] != last_[15]) << 3 |
                static_cast<std::uint32_t>(r[16] != last_[16]) << 2 |
                static_cast<std::uint32_t>(r[17] != last_[17]) << 1 |
                static_cast<std::uint32_t>(std::memcmp(r + 18, last_ + 18, 2) != 0);
    }
    changed = c.symbol(changed_[0], changed);
    if (changed & 32) last_[14] = wrapped(static_cast<int>(c.symbol(bits_[last_[14]], r[14])));
    const int number = last_[14] & 7, of = last_[14] >> 3 & 7;
    const std::uint32_t single = of == 1;
    const std::size_t m = kReturnMap[of][number];
    if (changed & 16)
      last_intensity_[m] = static_cast<std::uint16_t>(intensity_.code(
          c, last_intensity_[m], load<std::uint16_t>(r + 12), static_cast<std::uint32_t>(std::min<std::size_t>(m, 3))));
    store(last_ + 12, last_intensity_[m]);
    if (changed & 8) last_[15] = wrapped(static_cast<int>(c.symbol(classes_[last_[15]], r[15])));
    if (changed & 4)
      last_[16] =
          wrapped(last_[16] + static_cast<int>(c.symbol(angles_[last_[14] >> 6 & 1], wrapped(r[16] - last_[16]))));
    if (changed & 2) last_[17] = wrapped(static_cast<int>(c.symbol(users_[last_[17]], r[17])));
    if (changed & 1)
      store(last_ + 18, static_cast<std::uint16_t>(
                            source_.code(c, load<std::uint16_t>(last_ + 18), load<std::uint16_t>(r + 18), 0)));

    code_step(c, dx_, x_steps_[m], last_, r, single);
    std::uint32_t k = dx_.size();
    code_step(c, dy_, y_steps_[m], last_ + 4, r + 4, single + (k < 20 ? even(k) : 20));
    k = (dx_.size() + dy_.size()) / 2;
    std::int32_t& z = last_z_[std::abs(of - number)];
    z = z_.code(c, z, load<std::int32_t>(r + 8), single + (k < 18 ? even(k) : 18));
    store(last_ + 8, z);
    if constexpr (kDecodes) std::memcpy(r, last_, kSize);
  }

 private:
  ModelSet changed_, bits_, classes_, users_, angles_;
  IntegerModel intensity_, source_, dx_, dy_, z_;
  RunningMedian x_steps_[16], y_steps_[16];
  std::uint16_t last_intensity_[16] = {};
  std::int32_t last_z_[8] = {};
  std::uint8_t last_[kSize] = {};
};

// ---- point formats 6 and above

// Which running median a return uses: the only one, the first or last of two, the first, one between or the last of
// many; and, for pulses that contradict themselves, whatever the format laid down.
inline constexpr std::uint8_t kReturn14Map[16][16] = {
    {0, 1, 2, 3, 4, 5, 3, 4, 4, 5, 5, 5, 5, 5, 5, 5}, {1, 0, 1, 3, 3, 3, 3, 3, 3, 3, 3, 3, 3, 3, 3, 3},
    {2, 1, 2, 4, 4, 4, 4, 4, 4, 4, 4, 3, 3, 3, 3, 3}, {3, 3, 4, 5, 4, 4, 4, 4, 4, 4, 4, 4, 4, 4, 4, 4},
    {4, 3, 4, 4, 5, 4, 4, 4, 4, 4, 4, 4, 4, 4, 4, 4}, {5, 3, 4, 4, 4, 5, 4, 4, 4, 4, 4, 4, 4, 4, 4, 4},
    {3, 3, 4, 4, 4, 4, 5, 4, 4, 4, 4, 4, 4, 4, 4, 4}, {4, 3, 4, 4, 4, 4, 4, 5, 4, 4, 4, 4, 4, 4, 4, 4},
    {4, 3, 4, 4, 4, 4, 4, 4, 5, 4, 4, 4, 4, 4, 4, 4}, {5, 3, 4, 4, 4, 4, 4, 4, 4, 5, 4, 4, 4, 4, 4, 4},
    {5, 3, 4, 4, 4, 4, 4, 4, 4, 4, 5, 4, 4, 4, 4, 4}, {5, 3, 3, 4, 4, 4, 4, 4, 4, 4, 4, 5, 5, 4, 4, 4},
    {5, 3, 3, 4, 4, 4, 4, 4, 4, 4, 4, 5, 5, 5, 4, 4}, {5, 3, 3, 4, 4, 4, 4, 4, 4, 4, 4, 4, 5, 5, 5, 4},
    {5, 3, 3, 4, 4, 4, 4, 4, 4, 4, 4, 4, 4, 5, 5, 5}, {5, 3, 3, 4, 4, 4, 4, 4, 4, 4, 4, 4, 4, 4, 5, 5}};

// Layers of the core item, in the order of the stream.
enum Layer14 { kPlace, kHeight, kClass, kFlags, kIntensity, kAngle, kUser, kSource, kTime, kLayers14 };

template <class Coder>
class Point14Coder {
 public:
  static constexpr std::size_t kSize = 30;
  explicit Point14Coder(bool d) : decoding_(d) {}

  // `layers`: the coders of its nine layers; a layer that is not wanted, or is empty, is left alone.
  void reset(const std::uint8_t* first) {
    for (auto& s : channels_)
      if (s) s->used = false;
    current_ = first[15] >> 4 & 3;
    begin(current_, first);
    std::fill_n(layer_changed, static_cast<int>(kLayers14), false);
  }
  // The scanner channel of the record that was coded last.
  int channel() const { return current_; }

  void code(Coder* layers, const std::uint8_t* wanted, std::uint8_t* r) {
    constexpr bool kDecodes = Coder::kDecodes;
    Coder& c = layers[kPlace];
    State* s = channels_[current_].get();
    const std::uint8_t* last = s->last;
    const std::uint32_t before = static_cast<std::uint32_t>((last[14] & 15) == 1) |
                                 static_cast<std::uint32_t>((last[14] & 15) >= (last[14] >> 4)) << 1 |
                                 static_cast<std::uint32_t>(s->time_changed) << 2;
    std::uint32_t changed = 0;
    if constexpr (!kDecodes) {
      const int channel = r[15] >> 4 & 3;
      const std::uint8_t* than =
          channel != current_ && channels_[channel] && channels_[channel]->used ? channels_[channel]->last : last;
      changed = static_cast<std::uint32_t>(channel != current_) << 6 |
                static_cast<std::uint32_t>(std::memcmp(r + 20, than + 20, 2) != 0) << 5 |
                static_cast<std::uint32_t>(std::memcmp(r + 22, than + 22, 8) != 0) << 4 |
                static_cast<std::uint32_t>(std::memcmp(r + 18, than + 18, 2) != 0) << 3 |
                static_cast<std::uint32_t>((r[14] >> 4) != (than[14] >> 4)) << 2;
      const int by = ((r[14] & 15) - (than[14] & 15)) & 15;
      changed |= by == 0 ? 0u : by == 1 ? 1u : by == 15 ? 2u : 3u;
    }
    changed = c.symbol(s->changed[before], changed);
    if (changed & 64) {
      const int on =
          static_cast<int>(c.symbol(s->channel[0], static_cast<std::uint32_t>(((r[15] >> 4) - current_ + 3) & 3)));
      const int next = (current_ + on + 1) & 3;
      if (!channels_[next] || !channels_[next]->used) begin(next, last);
      current_ = next;
      s = channels_[next].get();
      last = s->last;
    }
    const bool time_changed = changed & 16;
    const int of_before = last[14] >> 4, number_before = last[14] & 15;
    int of = of_before, number = number_before;
    if (changed & 4)
      of = static_cast<int>(
          c.symbol(s->returns[static_cast<std::size_t>(of_before)], static_cast<std::uint32_t>(r[14] >> 4)));
    if ((changed & 3) == 1) {
      number = (number_before + 1) & 15;
    } else if ((changed & 3) == 2) {
      number = (number_before + 15) & 15;
    } else if ((changed & 3) == 3) {
      if (time_changed)
        number = static_cast<int>(
            c.symbol(s->numbers[static_cast<std::size_t>(number_before)], static_cast<std::uint32_t>(r[14] & 15)));
      else
        number = (number_before + 2 +
                  static_cast<int>(c.symbol(s->number_steps[0],
                                            static_cast<std::uint32_t>(((r[14] & 15) - number_before - 2) & 15)))) &
                 15;
    }
    const std::size_t m = kReturn14Map[of][number];
    const int level = std::min(std::abs(of - number), 7);
    const std::uint32_t place = (number == 1 ? 2u : 0u) + (number >= of ? 1u : 0u);
    const std::uint32_t single = of == 1;

    std::uint8_t out[kSize];
    std::memcpy(out, last, kSize);
    out[14] = static_cast<std::uint8_t>(of << 4 | number);
    out[15] = static_cast<std::uint8_t>((last[15] & 0xCF) | current_ << 4);
    code_step(c, s->dx, s->x_steps[m << 1 | time_changed], out, r, single);
    std::uint32_t k = s->dx.size();
    code_step(c, s->dy, s->y_steps[m << 1 | time_changed], out + 4, r + 4, single + (k < 20 ? even(k) : 20));
    k = (s->dx.size() + s->dy.size()) / 2;

    if (wanted[kHeight]) {
      std::int32_t& z = s->last_z[level];
      z = s->z.code(layers[kHeight], z, load<std::int32_t>(r + 8), single + (k < 18 ? even(k) : 18));
      store(out + 8, z);
    }
    if (wanted[kClass]) {
      const std::size_t context = static_cast<std::size_t>(last[16] & 31) << 1 | (place == 3);
      out[16] = wrapped(static_cast<int>(layers[kClass].symbol(s->classes[context], r[16])));
      layer_changed[kClass] |= out[16] != last[16];
    }
    if (wanted[kFlags]) {
      const auto f = layers[kFlags].symbol(s->flags[flags_of(last)], flags_of(r));
      out[15] = static_cast<std::uint8_t>((f & 15) | static_cast<std::uint32_t>(current_) << 4 | f >> 4 << 6);
      layer_changed[kFlags] |= flags_of(out) != flags_of(last);
    }
    if (wanted[kIntensity]) {
      std::uint16_t& i = s->last_intensity[place << 1 | time_changed];
      i = static_cast<std::uint16_t>(s->intensity.code(layers[kIntensity], i, load<std::uint16_t>(r + 12), place));
      store(out + 12, i);
      layer_changed[kIntensity] |= std::memcmp(out + 12, last + 12, 2) != 0;
    }
    if (wanted[kAngle] && (changed & 8)) {
      store(out + 18, static_cast<std::int16_t>(s->angle.code(layers[kAngle], load<std::int16_t>(last + 18),
                                                              load<std::int16_t>(r + 18), time_changed)));
      layer_changed[kAngle] = true;
    }
    if (wanted[kUser]) {
      out[17] = wrapped(static_cast<int>(layers[kUser].symbol(s->users[last[17] / 4], r[17])));
      layer_changed[kUser] |= out[17] != last[17];
    }
    if (wanted[kSource] && (changed & 32)) {
      store(out + 20, static_cast<std::uint16_t>(s->source.code(layers[kSource], load<std::uint16_t>(last + 20),
                                                                load<std::uint16_t>(r + 20), 0)));
      layer_changed[kSource] = true;
    }
    if (wanted[kTime] && time_changed) {
      store(out + 22, s->time.code(layers[kTime], load<std::uint64_t>(r + 22)));
      layer_changed[kTime] = true;
    }
    std::memcpy(s->last, out, kSize);
    s->time_changed = time_changed;
    if constexpr (kDecodes) std::memcpy(r, out, kSize);
  }

  bool layer_changed[kLayers14] = {};

 private:
  static std::uint32_t flags_of(const std::uint8_t* r) {
    return static_cast<std::uint32_t>((r[15] & 15) | (r[15] >> 6) << 4);
  }

  // What is known of one scanner channel.
  struct State {
    explicit State(bool d)
        : changed(8, 128, d),
          channel(1, 3, d),
          returns(16, 16, d),
          numbers(16, 16, d),
          number_steps(1, 13, d),
          classes(64, 256, d),
          flags(64, 64, d),
          users(64, 256, d),
          dx(32, 2, d),
          dy(32, 22, d),
          z(32, 20, d),
          intensity(16, 4, d),
          angle(16, 2, d),
          source(16, 1, d),
          time(d) {}
    bool used = false, time_changed = false;
    ModelSet changed, channel, returns, numbers, number_steps, classes, flags, users;
    IntegerModel dx, dy, z, intensity, angle, source;
    TimeCoder<Coder, true> time;
    RunningMedian x_steps[12], y_steps[12];
    std::int32_t last_z[8] = {};
    std::uint16_t last_intensity[8] = {};
    std::uint8_t last[kSize] = {};
  };
  void begin(int channel, const std::uint8_t* from) {
    std::uint8_t first[kSize];
    std::memcpy(first, from, kSize);
    if (!channels_[channel]) channels_[channel] = std::make_unique<State>(decoding_);
    State& s = *channels_[channel];
    for (ModelSet* m :
         {&s.changed, &s.channel, &s.returns, &s.numbers, &s.number_steps, &s.classes, &s.flags, &s.users})
      m->reset();
    for (IntegerModel* m : {&s.dx, &s.dy, &s.z, &s.intensity, &s.angle, &s.source}) m->reset();
    for (int i = 0; i < 12; ++i) {
      s.x_steps[i].reset();
      s.y_steps[i].reset();
    }
    std::fill_n(s.last_z, 8, load<std::int32_t>(first + 8));
    std::fill_n(s.last_intensity, 8, load<std::uint16_t>(first + 12));
    s.time.reset(load<std::uint64_t>(first + 22));
    std::memcpy(s.last, first, kSize);
    s.time_changed = false;
    s.used = true;
  }

  bool decoding_;
  int current_ = 0;
  std::unique_ptr<State> channels_[4];
};

}  // namespace katoptra::laz

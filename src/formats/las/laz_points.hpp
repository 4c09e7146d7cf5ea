// The core items of compressed records: Point10 (point formats 0 to 5, one stream) and Point14 (6 and above, a layer a
// field).
#pragma once
#include <memory>
#include <optional>

#include "laz_items.hpp"

namespace katoptra::laz {

// A coordinate by its step from the one before, as against the running median of steps.
template <class Coder>
void code_step(Coder& c, IntegerModel<32>& model, RunningMedian& steps, std::uint32_t& last, std::uint32_t now,
               std::uint32_t context) {
  const std::int32_t d = model.code(c, steps.get(), static_cast<std::int32_t>(now - last), context);
  last += static_cast<std::uint32_t>(d);
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
        intensity_(4, d),
        source_(1, d),
        dx_(2, d),
        dy_(22, d),
        z_(20, d) {}

  [[gnu::noinline]] void reset(const std::uint8_t* first) {
    for (ModelSet* m : {&changed_, &bits_, &classes_, &users_, &angles_}) m->reset();
    for (IntegerModel<32>* m : {&dx_, &dy_, &z_}) m->reset();
    for (IntegerModel<16>* m : {&intensity_, &source_}) m->reset();
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

    auto last_x = load<std::uint32_t>(last_), last_y = load<std::uint32_t>(last_ + 4);
    code_step(c, dx_, x_steps_[m], last_x, load<std::uint32_t>(r), single);
    std::uint32_t k = dx_.size();
    code_step(c, dy_, y_steps_[m], last_y, load<std::uint32_t>(r + 4), single + (k < 20 ? even(k) : 20));
    store(last_, last_x);
    store(last_ + 4, last_y);
    k = (dx_.size() + dy_.size()) / 2;
    std::int32_t& z = last_z_[std::abs(of - number)];
    z = z_.code(c, z, load<std::int32_t>(r + 8), single + (k < 18 ? even(k) : 18));
    store(last_ + 8, z);
    if constexpr (kDecodes) std::memcpy(r, last_, kSize);
  }

 private:
  ModelSet changed_, bits_, classes_, users_, angles_;
  IntegerModel<16> intensity_, source_;
  IntegerModel<32> dx_, dy_, z_;
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

// The fields of a record, apart from one another: copied as a whole, the record of a point would have to wait for all
// fields of the one before, and layers could not be worked on side by side.
struct Fields14 {
  std::uint32_t x = 0, y = 0;
  std::int32_t z = 0;
  std::uint16_t intensity = 0, source = 0;
  std::int16_t angle = 0;
  std::uint8_t number = 0, of = 0, flags = 0, classification = 0, user = 0;  // flags: without the scanner channel
  std::uint64_t time = 0;

  static Fields14 from(const std::uint8_t* r) {
    return {load<std::uint32_t>(r),
            load<std::uint32_t>(r + 4),
            load<std::int32_t>(r + 8),
            load<std::uint16_t>(r + 12),
            load<std::uint16_t>(r + 20),
            load<std::int16_t>(r + 18),
            static_cast<std::uint8_t>(r[14] & 15),
            static_cast<std::uint8_t>(r[14] >> 4),
            static_cast<std::uint8_t>((r[15] & 15) | r[15] >> 6 << 4),
            r[16],
            r[17],
            load<std::uint64_t>(r + 22)};
  }
  void put(std::uint8_t* r, int channel) const {
    store(r, x);
    store(r + 4, y);
    store(r + 8, z);
    store(r + 12, intensity);
    r[14] = static_cast<std::uint8_t>(of << 4 | number);
    r[15] = static_cast<std::uint8_t>((flags & 15) | channel << 4 | flags >> 4 << 6);
    r[16] = classification;
    r[17] = user;
    store(r + 18, angle);
    store(r + 20, source);
    store(r + 22, time);
  }
};

template <class Coder>
class Point14Coder {
 public:
  static constexpr std::size_t kSize = 30;
  explicit Point14Coder(bool d) : decoding_(d) {}

  // `layers`: the coders of its nine layers; a layer that is not wanted, or is empty, is left alone.
  [[gnu::noinline]] void reset(const std::uint8_t* first) {
    for (auto& s : channels_)
      if (s) s->used = false;
    current_ = first[15] >> 4 & 3;
    begin(current_, Fields14::from(first));
    std::fill_n(layer_changed, static_cast<int>(kLayers14), false);
  }
  // The scanner channel of the record that was coded last.
  int channel() const { return current_; }

  void code(Coder* layers, const std::uint8_t* wanted, std::uint8_t* r) {
    const Fields14 now = Coder::kDecodes ? Fields14() : Fields14::from(r);
    const std::uint32_t changed = code_changes(layers[kPlace], now, r[15] >> 4 & 3);
    State& s = *channels_[current_];
    Fields14& last = s.last;
    const bool time_changed = changed & 16;
    code_returns(layers[kPlace], s, changed, now);
    const std::size_t m = std::size_t{kReturn14Map[last.of][last.number]} << 1 | time_changed;
    const int level = std::min(std::abs(last.of - last.number), 7);
    const std::uint32_t place = (last.number == 1 ? 2u : 0u) + (last.number >= last.of ? 1u : 0u);
    const std::uint32_t single = last.of == 1;

    // Layers do not depend on one another: alternating, the machine works on several at a time.
    code_step(layers[kPlace], s.dx, s.x_steps[m], last.x, now.x, single);
    if (wanted[kIntensity]) {
      std::uint16_t& i = s.last_intensity[place << 1 | time_changed];
      i = static_cast<std::uint16_t>(s.intensity.code(layers[kIntensity], i, now.intensity, place));
      layer_changed[kIntensity] |= i != last.intensity;
      last.intensity = i;
    }
    std::uint32_t k = s.dx.size();
    code_step(layers[kPlace], s.dy, s.y_steps[m], last.y, now.y, single + (k < 20 ? even(k) : 20));
    k = (k + s.dy.size()) / 2;
    if (wanted[kAngle] && (changed & 8)) {
      last.angle = static_cast<std::int16_t>(s.angle.code(layers[kAngle], last.angle, now.angle, time_changed));
      layer_changed[kAngle] = true;
    }
    if (wanted[kClass]) {
      const std::size_t context = static_cast<std::size_t>(last.classification & 31) << 1 | (place == 3);
      code_byte(layers[kClass], s.classes[context], last.classification, now.classification, kClass);
    }
    if (wanted[kHeight]) {
      std::int32_t& z = s.last_z[level];
      z = s.z.code(layers[kHeight], z, now.z, single + (k < 18 ? even(k) : 18));
      last.z = z;
    }
    if (wanted[kTime] && time_changed) {
      last.time = s.time.code(layers[kTime], now.time);
      layer_changed[kTime] = true;
    }
    if (wanted[kFlags]) code_byte(layers[kFlags], s.flags[last.flags], last.flags, now.flags, kFlags);
    if (wanted[kUser]) code_byte(layers[kUser], s.users[last.user / 4], last.user, now.user, kUser);
    if (wanted[kSource] && (changed & 32)) {
      last.source = static_cast<std::uint16_t>(s.source.code(layers[kSource], last.source, now.source, 0));
      layer_changed[kSource] = true;
    }
    s.time_changed = time_changed;
    if constexpr (Coder::kDecodes) last.put(r, current_);
  }

  bool layer_changed[kLayers14] = {};

 private:
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
          dx(2, d),
          dy(22, d),
          z(20, d),
          intensity(4, d),
          angle(2, d),
          source(1, d),
          time(d) {}
    bool used = false, time_changed = false;
    ModelSet changed, channel, returns, numbers, number_steps, classes, flags, users;
    IntegerModel<32> dx, dy, z;
    IntegerModel<16> intensity, angle, source;
    TimeCoder<Coder, true> time;
    RunningMedian x_steps[12], y_steps[12];
    std::int32_t last_z[8] = {};
    std::uint16_t last_intensity[8] = {};
    Fields14 last;
  };

  // Which fields changed at all; and on to the channel of this record.
  std::uint32_t code_changes(Coder& c, const Fields14& now, int channel) {
    State* s = channels_[current_].get();
    const std::uint32_t before = static_cast<std::uint32_t>(s->last.number == 1) |
                                 static_cast<std::uint32_t>(s->last.number >= s->last.of) << 1 |
                                 static_cast<std::uint32_t>(s->time_changed) << 2;
    std::uint32_t changed = 0;
    if constexpr (!Coder::kDecodes) {
      const bool known = channel != current_ && channels_[channel] && channels_[channel]->used;
      const Fields14& than = known ? channels_[channel]->last : s->last;
      changed = static_cast<std::uint32_t>(channel != current_) << 6 |
                static_cast<std::uint32_t>(now.source != than.source) << 5 |
                static_cast<std::uint32_t>(now.time != than.time) << 4 |
                static_cast<std::uint32_t>(now.angle != than.angle) << 3 |
                static_cast<std::uint32_t>(now.of != than.of) << 2;
      const int by = (now.number - than.number) & 15;
      changed |= by == 0 ? 0u : by == 1 ? 1u : by == 15 ? 2u : 3u;
    }
    changed = c.symbol(s->changed[before], changed);
    if (changed & 64) {
      const auto on = c.symbol(s->channel[0], static_cast<std::uint32_t>((channel - current_ + 3) & 3));
      const int next = (current_ + static_cast<int>(on) + 1) & 3;
      if (!channels_[next] || !channels_[next]->used) begin(next, s->last);
      current_ = next;
    }
    return changed;
  }

  // The number of the return and that of returns.
  void code_returns(Coder& c, State& s, std::uint32_t changed, const Fields14& now) {
    Fields14& last = s.last;
    if (changed & 4) last.of = static_cast<std::uint8_t>(c.symbol(s.returns[last.of], now.of));
    const std::uint32_t how = changed & 3;
    if (how == 0) return;
    std::uint32_t number = last.number + (how == 1 ? 1u : 15u);
    if (how == 3 && (changed & 16))
      number = c.symbol(s.numbers[last.number], now.number);
    else if (how == 3)
      number =
          last.number + 2u + c.symbol(s.number_steps[0], static_cast<std::uint32_t>(now.number - last.number - 2) & 15);
    last.number = static_cast<std::uint8_t>(number & 15);
  }

  void code_byte(Coder& c, SymbolModel& model, std::uint8_t& last, std::uint8_t now, Layer14 layer) {
    const auto v = static_cast<std::uint8_t>(c.symbol(model, now));
    layer_changed[layer] |= v != last;
    last = v;
  }

  [[gnu::noinline]] void begin(int channel, const Fields14& from) {
    const Fields14 first = from;
    if (!channels_[channel]) channels_[channel] = std::make_unique<State>(decoding_);
    State& s = *channels_[channel];
    for (ModelSet* m :
         {&s.changed, &s.channel, &s.returns, &s.numbers, &s.number_steps, &s.classes, &s.flags, &s.users})
      m->reset();
    for (IntegerModel<32>* m : {&s.dx, &s.dy, &s.z}) m->reset();
    for (IntegerModel<16>* m : {&s.intensity, &s.angle, &s.source}) m->reset();
    for (int i = 0; i < 12; ++i) {
      s.x_steps[i].reset();
      s.y_steps[i].reset();
    }
    std::fill_n(s.last_z, 8, first.z);
    std::fill_n(s.last_intensity, 8, first.intensity);
    s.time.reset(first.time);
    s.last = first;
    s.time_changed = false;
    s.used = true;
  }

  bool decoding_;
  int current_ = 0;
  std::unique_ptr<State> channels_[4];
};

}  // namespace katoptra::laz

// The core items of compressed records: Point10 (point formats 0 to 5, one stream) and Point14 (6 and above, a layer a
// field).
#pragma once
#include <memory>
#include <optional>

#include "laz_items.hpp"

namespace katoptra::laz {

// A coordinate by its step from the one before, as against the running median of steps; tells how many bits the
// difference had.
template <class Coder, class Model>
std::uint32_t code_step(Coder& c, Model& model, RunningMedian& steps, std::uint32_t& last, std::uint32_t now,
                        std::uint32_t context) {
  auto turn = model.code_size(c, steps.get(), static_cast<std::int32_t>(now - last), context);
  model.code_upper(c, turn);
  const std::int32_t d = model.code_rest(c, steps.get(), turn);
  last += static_cast<std::uint32_t>(d);
  steps.add(d);
  return turn.size;
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

  [[gnu::noinline]] void reset(const std::uint8_t* first) {
    reset_all(changed_, bits_, classes_, users_, angles_, intensity_, source_, dx_, dy_, z_);
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
    std::uint32_t k = code_step(c, dx_, x_steps_[m], last_x, load<std::uint32_t>(r), single);
    k += code_step(c, dy_, y_steps_[m], last_y, load<std::uint32_t>(r + 4), single + (k < 20 ? even(k) : 20));
    k /= 2;
    store(last_, last_x);
    store(last_ + 4, last_y);
    std::int32_t& z = last_z_[std::abs(of - number)];
    z = z_.code(c, z, load<std::int32_t>(r + 8), single + (k < 18 ? even(k) : 18));
    store(last_ + 8, z);
    if constexpr (kDecodes) std::memcpy(r, last_, kSize);
  }

 private:
  ModelSet<Coder, 1, 64> changed_;
  ModelSet<Coder, 256, 256> bits_, classes_, users_;
  ModelSet<Coder, 2, 256> angles_;
  IntegerModel<Coder, 16, 4> intensity_;
  IntegerModel<Coder, 16, 1> source_;
  IntegerModel<Coder, 32, 2> dx_;
  IntegerModel<Coder, 32, 22> dy_;
  IntegerModel<Coder, 32, 20> z_;
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

// What of the models follows from the return's number and that of returns.
struct Contexts14 {
  std::uint8_t median = 0;  // which running median
  std::uint8_t level = 0;   // how far it is from the last return
  std::uint8_t place = 0;   // whether it is the first return (2) and the last (1)
  std::uint8_t single = 0;

  static Contexts14 of(const Fields14& f) {
    return {kReturn14Map[f.of][f.number], static_cast<std::uint8_t>(std::min(std::abs(f.of - f.number), 7)),
            static_cast<std::uint8_t>((f.number == 1 ? 2 : 0) + (f.number >= f.of ? 1 : 0)),
            static_cast<std::uint8_t>(f.of == 1)};
  }
};

template <class Coder>
class Point14Coder {
 public:
  static constexpr std::size_t kSize = 30;

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
    code_returns(layers[kPlace], s, changed, now);
    s.time_changed = changed & 16;
    code_in_turns(layers, wanted, s, now);
    code_others(layers, wanted, s, changed, now);
    if constexpr (Coder::kDecodes) s.last.put(r, current_);
    changed_ = changed;
  }
  // What of the place of that record its other layers need.
  PlaceStep step() const {
    const auto [median, level, place, single] = channels_[current_]->contexts;
    return {static_cast<std::uint8_t>(changed_),
            static_cast<std::uint8_t>(current_),
            static_cast<std::uint8_t>(bits_),
            median,
            level,
            place,
            single};
  }

  // The layers other than that of the place, which has been decoded elsewhere: they do not depend on one another.
  void follow(Coder* layers, const std::uint8_t* wanted, const PlaceStep& step, std::uint8_t* r) {
    static_assert(Coder::kDecodes);
    if (step.channel != current_) go_to(step.channel);
    State& s = *channels_[current_];
    s.contexts = {step.median, step.level, step.place, step.single};
    s.time_changed = step.changed & 16;
    Fields14& last = s.last;
    const Fields14 now;
    if (wanted[kIntensity]) {
      std::uint16_t& i = s.last_intensity[step.place << 1 | s.time_changed];
      last.intensity = i = static_cast<std::uint16_t>(s.intensity.code(layers[kIntensity], i, 0, step.place));
    }
    if (wanted[kClass]) code_class(layers, s, now);
    if (wanted[kHeight]) {
      std::int32_t& z = s.last_z[step.level];
      last.z = z = s.z.code(layers[kHeight], z, 0, height_context(s, step.bits));
    }
    code_others(layers, wanted, s, step.changed, now);
    last.put(r, current_);
  }

  bool layer_changed[kLayers14] = {};

 private:
  // What is known of one scanner channel.
  struct State {
    bool used = false, time_changed = false;
    Contexts14 contexts;
    ModelSet<Coder, 8, 128> changed;
    ModelSet<Coder, 1, 3> channel;
    ModelSet<Coder, 16, 16> returns, numbers;
    ModelSet<Coder, 1, 13> number_steps;
    ModelSet<Coder, 64, 256> classes, users;
    ModelSet<Coder, 64, 64> flags;
    IntegerModel<Coder, 32, 2> dx;
    IntegerModel<Coder, 32, 22> dy;
    IntegerModel<Coder, 32, 20> z;
    IntegerModel<Coder, 16, 4> intensity;
    IntegerModel<Coder, 16, 2> angle;
    IntegerModel<Coder, 16, 1> source;
    TimeCoder<Coder, true> time;
    RunningMedian x_steps[12], y_steps[12];
    std::int32_t last_z[8] = {};
    std::uint16_t last_intensity[8] = {};
    Fields14 last;
  };

  // Which fields changed at all; and on to the channel of this record.
  std::uint32_t code_changes(Coder& c, const Fields14& now, int channel) {
    State* s = channels_[current_].get();
    const std::uint32_t before =
        (s->contexts.place >> 1 | (s->contexts.place & 1u) << 1) | static_cast<std::uint32_t>(s->time_changed) << 2;
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
      go_to((current_ + static_cast<int>(on) + 1) & 3);
    }
    return changed;
  }
  void go_to(int channel) {
    if (!channels_[channel] || !channels_[channel]->used) begin(channel, channels_[current_]->last);
    current_ = channel;
  }

  // The number of the return and that of returns.
  void code_returns(Coder& c, State& s, std::uint32_t changed, const Fields14& now) {
    Fields14& last = s.last;
    if (changed & 4) last.of = static_cast<std::uint8_t>(c.symbol(s.returns[last.of], now.of));
    const std::uint32_t how = changed & 3;
    if ((changed & 7) == 0) return;
    std::uint32_t number = last.number + (how == 0 ? 0u : how == 1 ? 1u : 15u);
    if (how == 3 && (changed & 16))
      number = c.symbol(s.numbers[last.number], now.number);
    else if (how == 3)
      number =
          last.number + 2u + c.symbol(s.number_steps[0], static_cast<std::uint32_t>(now.number - last.number - 2) & 15);
    last.number = static_cast<std::uint8_t>(number & 15);
    s.contexts = Contexts14::of(last);
  }

  // Coordinates, intensity and class. Layers do not depend on one another: taking turns at every symbol, the machine
  // works on several at a time.
  void code_in_turns(Coder* layers, const std::uint8_t* wanted, State& s, const Fields14& now) {
    Fields14& last = s.last;
    const auto [median, level, place, single] = s.contexts;
    const std::size_t m = std::size_t{median} << 1 | s.time_changed;

    Coder& places = layers[kPlace];
    RunningMedian &x_steps = s.x_steps[m], &y_steps = s.y_steps[m];
    std::uint16_t& i = s.last_intensity[place << 1 | s.time_changed];
    std::int32_t& z = s.last_z[level];
    typename IntegerModel<Coder, 16, 4>::Turn of_i;
    typename IntegerModel<Coder, 32, 20>::Turn of_z;

    auto of_x = s.dx.code_size(places, x_steps.get(), static_cast<std::int32_t>(now.x - last.x), single);
    if (wanted[kIntensity]) of_i = s.intensity.code_size(layers[kIntensity], i, now.intensity, place);
    s.dx.code_upper(places, of_x);
    if (wanted[kIntensity]) s.intensity.code_upper(layers[kIntensity], of_i);
    const std::int32_t dx = s.dx.code_rest(places, x_steps.get(), of_x);
    if (wanted[kIntensity]) {
      i = static_cast<std::uint16_t>(s.intensity.code_rest(layers[kIntensity], i, of_i));
      if constexpr (!Coder::kDecodes) layer_changed[kIntensity] |= i != last.intensity;
      last.intensity = i;
    }
    last.x += static_cast<std::uint32_t>(dx);
    std::uint32_t k = of_x.size;
    auto of_y = s.dy.code_size(places, y_steps.get(), static_cast<std::int32_t>(now.y - last.y),
                               single + (k < 20 ? even(k) : 20));
    if (wanted[kClass]) code_class(layers, s, now);
    k = (k + of_y.size) / 2;
    if (wanted[kHeight]) of_z = s.z.code_size(layers[kHeight], z, now.z, height_context(s, k));
    s.dy.code_upper(places, of_y);
    if (wanted[kHeight]) s.z.code_upper(layers[kHeight], of_z);
    const std::int32_t dy = s.dy.code_rest(places, y_steps.get(), of_y);
    if (wanted[kHeight]) last.z = z = s.z.code_rest(layers[kHeight], z, of_z);
    last.y += static_cast<std::uint32_t>(dy);
    x_steps.add(dx);
    y_steps.add(dy);
    bits_ = k;
  }
  static std::uint32_t height_context(const State& s, std::uint32_t bits) {
    return s.contexts.single + (bits < 18 ? even(bits) : 18);
  }
  void code_class(Coder* layers, State& s, const Fields14& now) {
    std::uint8_t& last = s.last.classification;
    const std::size_t context = static_cast<std::size_t>(last & 31) << 1 | (s.contexts.place == 3);
    code_byte(layers[kClass], s.classes[context], last, now.classification, kClass);
  }

  void code_others(Coder* layers, const std::uint8_t* wanted, State& s, std::uint32_t changed, const Fields14& now) {
    Fields14& last = s.last;
    if (wanted[kTime] && s.time_changed) {
      last.time = s.time.code(layers[kTime], now.time);
      layer_changed[kTime] = true;
    }
    if (wanted[kAngle] && (changed & 8)) {
      last.angle = static_cast<std::int16_t>(s.angle.code(layers[kAngle], last.angle, now.angle, s.time_changed));
      layer_changed[kAngle] = true;
    }
    if (wanted[kFlags]) code_byte(layers[kFlags], s.flags[last.flags], last.flags, now.flags, kFlags);
    if (wanted[kUser]) code_byte(layers[kUser], s.users[last.user / 4], last.user, now.user, kUser);
    if (wanted[kSource] && (changed & 32)) {
      last.source = static_cast<std::uint16_t>(s.source.code(layers[kSource], last.source, now.source, 0));
      layer_changed[kSource] = true;
    }
  }

  void code_byte(Coder& c, SymbolModel& model, std::uint8_t& last, std::uint8_t now, Layer14 layer) {
    const auto v = static_cast<std::uint8_t>(c.symbol(model, now));
    if constexpr (!Coder::kDecodes) layer_changed[layer] |= v != last;
    last = v;
  }

  [[gnu::noinline]] void begin(int channel, const Fields14& from) {
    const Fields14 first = from;
    if (!channels_[channel]) channels_[channel] = std::make_unique<State>();
    State& s = *channels_[channel];
    reset_all(s.changed, s.channel, s.returns, s.numbers, s.number_steps, s.classes, s.flags, s.users);
    reset_all(s.dx, s.dy, s.z, s.intensity, s.angle, s.source);
    for (int i = 0; i < 12; ++i) {
      s.x_steps[i].reset();
      s.y_steps[i].reset();
    }
    std::fill_n(s.last_z, 8, first.z);
    std::fill_n(s.last_intensity, 8, first.intensity);
    s.time.reset(first.time);
    s.last = first;
    s.contexts = Contexts14::of(first);
    s.time_changed = false;
    s.used = true;
  }

  int current_ = 0;
  std::uint32_t changed_ = 0, bits_ = 0;  // of the record that was coded last: which fields, and the steps in x and y
  std::unique_ptr<State> channels_[4];
};

}  // namespace katoptra::laz

// A chunk of LAZ, coded and decoded by the same bodies: a Coder either writes the symbol it is given or reads one and
// returns it, so that what one says the other understands by being the same code. Formats 0 to 3 are one stream, record
// behind record. Formats 6 and above are layers, a coder for each field: a reader that wants heights alone leaves the
// other layers untouched, and fields of one record do not wait for one another. The models of a scanner channel begin
// with its first record in the chunk; the loops that decode are compiled flat, twice (see clones.hpp), for there the
// time goes.
#include "laz_chunk.hpp"

#include <fmt/format.h>

#include "katoptra/base/error.hpp"

#include "base/clones.hpp"
#include "laz_points.hpp"

namespace katoptra::laz {
namespace {

bool is_layer_item(ItemType t) {
  return t == ItemType::Point14 || t == ItemType::Rgb14 || t == ItemType::RgbNir14 || t == ItemType::Wave14 ||
         t == ItemType::Bytes14;
}

// Bytes that nothing is known of: each by its change.
template <class Coder>
class BytesCoder {
 public:
  explicit BytesCoder(std::size_t n) : models_(n), last_(n) {}
  void reset(const std::uint8_t* first) {
    for (SymbolModel& m : models_) m.forget();
    std::copy_n(first, last_.size(), last_.begin());
  }
  void code(Coder& c, std::uint8_t* r) {
    for (std::size_t i = 0; i < last_.size(); ++i) {
      last_[i] = wrapped(last_[i] +
                         static_cast<int>(c.symbol(models_[i].ready(256, Coder::kDecodes), wrapped(r[i] - last_[i]))));
      if constexpr (Coder::kDecodes) r[i] = last_[i];
    }
  }

 private:
  std::vector<SymbolModel> models_;
  std::vector<std::uint8_t> last_;
};

// ---- one stream: formats 0 to 3

template <class Coder>
class StreamRecords {
 public:
  [[gnu::noinline]] explicit StreamRecords(const LazFormat& f) : format_(f) {
    for (const Item& i : f.items)
      if (i.type == ItemType::Bytes) bytes_.emplace_back(i.size);
  }

  [[gnu::noinline]] void reset(const std::uint8_t* first) {
    std::size_t extra = 0;
    for (const Item& i : format_.items) {
      if (i.type == ItemType::Point10) point_.reset(first);
      if (i.type == ItemType::Time11) time_.reset(load<std::uint64_t>(first));
      if (i.type == ItemType::Rgb12) {
        colour_.reset();
        std::memcpy(rgb_, first, 6);
      }
      if (i.type == ItemType::Bytes) bytes_[extra++].reset(first);
      first += i.size;
    }
  }
  void code(Coder& c, std::uint8_t* r) {
    std::size_t extra = 0;
    for (const Item& i : format_.items) {
      switch (i.type) {
        case ItemType::Point10:
          point_.code(c, r);
          break;
        case ItemType::Time11:
          store(r, time_.code(c, load<std::uint64_t>(r)));
          break;
        case ItemType::Rgb12:
          colour_.code(c, rgb_, r);
          std::memcpy(rgb_, r, 6);
          break;
        default:
          bytes_[extra++].code(c, r);
          break;
      }
      r += i.size;
    }
  }

 private:
  LazFormat format_;
  Point10Coder<Coder> point_;
  TimeCoder<Coder, false> time_;
  ColourCoder<Coder> colour_;
  std::vector<BytesCoder<Coder>> bytes_;
  std::uint8_t rgb_[6] = {};
};

// ---- layers: formats 6 and above

// An item beside the core one: it follows the core's scanner channel, with models of its own for each.
template <class Coder>
class SideItem {
 public:
  explicit SideItem(const Item& item) : item_(item) {
    is_colour_ = item.type == ItemType::Rgb14 || item.type == ItemType::RgbNir14;
    layers_ = is_colour_ ? (item.type == ItemType::RgbNir14 ? 2 : 1) : item.size;
  }
  std::size_t layers() const { return layers_; }
  bool is_colour() const { return is_colour_; }

  void reset(const std::uint8_t* first, int channel) {
    for (auto& s : channels_)
      if (s) s->used = false;
    current_ = channel;
    begin(channel, first);
    changed.assign(layers_, false);
  }
  void code(Coder* layers, const std::uint8_t* wanted, int channel, std::uint8_t* r) {
    State* last = channels_[current_].get();
    State* now = last;
    if (channel != current_) {
      current_ = channel;
      const bool is_new = !channels_[channel] || !channels_[channel]->used;
      if (is_new) begin(channel, last->bytes.data());
      now = channels_[channel].get();
      // Version 3 goes on from the record before, whatever its channel; version 4 from the last one of this channel.
      if (is_new || item_.version >= 4) last = now;
    }
    std::uint8_t* before = last->bytes.data();
    if (is_colour_)
      code_colours(layers, wanted, *now, before, r);
    else
      for (std::size_t i = 0; i < layers_; ++i) {
        if (!wanted[i]) {
          if constexpr (Coder::kDecodes) r[i] = before[i];
          continue;
        }
        const std::uint8_t v =
            wrapped(before[i] + static_cast<int>(layers[i].symbol(now->plain[i].ready(256, Coder::kDecodes),
                                                                  wrapped(r[i] - before[i]))));
        if (v != before[i]) changed[i] = true;
        r[i] = v;
      }
    std::memcpy(before, r, item_.size);
  }

  std::vector<bool> changed;  // by layer

 private:
  struct State {
    State(std::size_t bytes_in_item, bool is_colour) : plain(is_colour ? 2 : bytes_in_item), bytes(bytes_in_item) {}
    bool used = false;
    ColourCoder<Coder> colour;
    ModelSet<Coder, 1, 4> infrared_used;
    std::vector<SymbolModel> plain;
    std::vector<std::uint8_t> bytes;
  };
  [[gnu::noinline]] void begin(int channel, const std::uint8_t* first) {
    const std::vector<std::uint8_t> copy(first, first + item_.size);
    if (!channels_[channel]) channels_[channel] = std::make_unique<State>(item_.size, is_colour_);
    State& s = *channels_[channel];
    s.colour.reset();
    s.infrared_used.reset();
    for (SymbolModel& m : s.plain) m.forget();
    s.bytes = copy;
    s.used = true;
  }
  void code_colours(Coder* layers, const std::uint8_t* wanted, State& s, const std::uint8_t* before, std::uint8_t* r) {
    if (wanted[0]) {
      s.colour.code(layers[0], before, r);
      if (std::memcmp(before, r, 6) != 0) changed[0] = true;
    } else if constexpr (Coder::kDecodes) {
      std::memcpy(r, before, 6);
    }
    if (layers_ < 2) return;
    if (!wanted[1]) {
      if constexpr (Coder::kDecodes) std::memcpy(r + 6, before + 6, 2);
      return;
    }
    std::uint32_t which = static_cast<std::uint32_t>(r[6] != before[6]) | static_cast<std::uint32_t>(r[7] != before[7])
                                                                              << 1;
    which = layers[1].symbol(s.infrared_used[0], which);
    for (std::size_t i = 0; i < 2; ++i)
      r[6 + i] = which >> i & 1
                     ? wrapped(before[6 + i] + static_cast<int>(layers[1].symbol(s.plain[i].ready(256, Coder::kDecodes),
                                                                                 wrapped(r[6 + i] - before[6 + i]))))
                     : before[6 + i];
    if (which) changed[1] = true;
  }

  Item item_;
  bool is_colour_ = false;
  std::size_t layers_ = 0;
  int current_ = 0;
  std::unique_ptr<State> channels_[4];
};

template <class Coder>
class LayeredRecords {
 public:
  [[gnu::noinline]] explicit LayeredRecords(const LazFormat& f) {
    std::size_t at = Point14Coder<Coder>::kSize, layer = kLayers14;
    for (std::size_t i = 1; i < f.items.size(); ++i) {
      sides_.push_back({SideItem<Coder>(f.items[i]), at, layer});
      at += f.items[i].size;
      layer += sides_.back().item.layers();
    }
    coders_.resize(layer);
    wanted_.assign(layer, 1);
  }
  [[gnu::noinline]] void reset(const std::uint8_t* first) {
    point_.reset(first);
    for (Side& s : sides_) s.item.reset(first + s.at, first[15] >> 4 & 3);
  }
  void code(std::uint8_t* r) {
    point_.code(coders_.data(), wanted_.data(), r);
    code_sides(r);
  }
  PlaceStep step() const { return point_.step(); }
  void follow(const PlaceStep& step, std::uint8_t* r) {
    point_.follow(coders_.data(), wanted_.data(), step, r);
    code_sides(r);
  }
  bool changed(std::size_t layer) const {
    if (layer < kLayers14) return layer <= kHeight || point_.layer_changed[layer];
    for (const Side& s : sides_)
      if (layer >= s.layer && layer < s.layer + s.item.layers()) return s.item.changed[layer - s.layer];
    return false;
  }
  std::vector<Coder>& coders() { return coders_; }
  void want(std::size_t layer, bool yes) { wanted_[layer] = yes; }
  bool wants(std::size_t layer) const { return wanted_[layer]; }

  // What a reader wants, by layer.
  [[gnu::noinline]] std::vector<std::uint8_t> chosen(const WantedLayers& w) const {
    std::vector<std::uint8_t> out{1,        w.z,   w.classification, w.flags, w.intensity, w.scan_angle, w.user_data,
                                  w.source, w.time};
    for (const Side& s : sides_)
      for (std::size_t i = 0; i < s.item.layers(); ++i)
        out.push_back(!s.item.is_colour() ? w.extra : i == 0 ? w.colour : w.infrared);
    return out;
  }

  // Where the field of a layer other than the first stands in a record: its first byte, and how many.
  struct Field {
    std::size_t at, bytes;
  };
  Field field(std::size_t layer) const {
    // In the order of Layer14; the byte of the flags holds the channel as well, which every layer knows.
    constexpr Field kCore[kLayers14] = {{0, 8}, {8, 4}, {16, 1}, {15, 1}, {12, 2}, {18, 2}, {17, 1}, {20, 2}, {22, 8}};
    if (layer < kLayers14) return kCore[layer];
    const auto s = std::find_if(sides_.begin(), sides_.end(),
                                [&](const Side& side) { return layer < side.layer + side.item.layers(); });
    const std::size_t i = layer - s->layer;
    if (!s->item.is_colour()) return {s->at + i, 1};
    return i == 0 ? Field{s->at, 6} : Field{s->at + 6, 2};
  }

 private:
  struct Side {
    SideItem<Coder> item;
    std::size_t at, layer;
  };
  void code_sides(std::uint8_t* r) {
    for (Side& s : sides_) s.item.code(coders_.data() + s.layer, wanted_.data() + s.layer, point_.channel(), r + s.at);
  }
  Point14Coder<Coder> point_;
  std::vector<Side> sides_;
  std::vector<Coder> coders_;
  std::vector<std::uint8_t> wanted_;
};

[[noreturn, gnu::noinline]] void damaged(const char* what) {
  throw Error(ErrorCode::BadFile, what, {}, "fetch the file again");
}
constexpr const char* kEndsEarly = "a chunk of its points ends early";

// The loops that decode records behind the first, which counts as good.
KATOPTRA_FLAT_CLONES std::exception_ptr decode_records(StreamRecords<Decoder>& stream, Decoder& c, std::size_t length,
                                                       std::size_t n, std::uint8_t* out, std::size_t& good) {
  return caught([&] {
    for (std::size_t i = 0; i < n; ++i) {
      stream.code(c, out + i * length);
      if (c.overrun() > 0) damaged(kEndsEarly);
      ++good;
    }
  });
}
// `steps`, when given, of as many records.
KATOPTRA_FLAT_CLONES std::exception_ptr decode_records(LayeredRecords<Decoder>& layers, std::size_t length,
                                                       std::size_t n, std::uint8_t* out, PlaceStep* steps,
                                                       std::size_t& good) {
  return caught([&] {
    const Decoder& places = layers.coders()[kPlace];
    for (std::size_t i = 0; i < n; ++i) {
      layers.code(out + i * length);
      if (places.overrun() > 0) damaged(kEndsEarly);
      if (steps) steps[i] = layers.step();
      ++good;
    }
  });
}
KATOPTRA_FLAT_CLONES std::exception_ptr follow_records(LayeredRecords<Decoder>& layers, std::size_t length,
                                                       std::size_t n, std::uint8_t* out, const PlaceStep* steps) {
  return caught([&] {
    for (std::size_t i = 0; i < n; ++i) layers.follow(steps[i], out + i * length);
  });
}

void expect_count(std::uint64_t there, std::uint64_t count) {
  if (there != count) damaged("a chunk holds another number of points than the table says");
}
bool is_coded(std::size_t layer, std::uint64_t size) { return size > 0 || layer <= kHeight; }
// A layer ends where its points do, but for the few bytes that a coder ends with: one that was damaged mostly does not.
void expect_whole_layers(LayeredRecords<Decoder>& layers, const std::vector<std::uint64_t>& sizes) {
  constexpr std::uint64_t kEnd = 8;
  for (std::size_t i = 0; i < layers.coders().size(); ++i) {
    if (!layers.wants(i)) continue;
    const Decoder& c = layers.coders()[i];
    if (c.overrun() > 4) damaged("a layer of its points ends early");
    if (c.taken() + kEnd < sizes[i]) damaged("a layer of its points goes on behind the last of them");
  }
}

}  // namespace

// ---- the format

LazFormat LazFormat::for_records(int point_format, int record_length) {
  LazFormat f;
  int length = 0;
  auto add = [&](ItemType type, int size) {
    f.items.push_back(
        {type, static_cast<std::uint16_t>(size), static_cast<std::uint16_t>(is_layer_item(type) ? 3 : 2)});
    length += size;
  };
  const bool layers = point_format >= 6;
  if (point_format < 0 || point_format > 8 || point_format == 4 || point_format == 5)
    throw Error(ErrorCode::Unsupported, fmt::format("point format {} is not written compressed", point_format), {},
                "write .las, or another format");
  f.packing = layers ? Packing::Layers : Packing::Chunks;
  if (layers) {
    add(ItemType::Point14, 30);
    if (point_format == 7) add(ItemType::Rgb14, 6);
    if (point_format == 8) add(ItemType::RgbNir14, 8);
  } else {
    add(ItemType::Point10, 20);
    if (point_format == 1 || point_format == 3) add(ItemType::Time11, 8);
    if (point_format >= 2) add(ItemType::Rgb12, 6);
  }
  if (record_length > length) add(layers ? ItemType::Bytes14 : ItemType::Bytes, record_length - length);
  return f;
}

int LazFormat::record_length() const {
  int n = 0;
  for (const Item& i : items) n += i.size;
  return n;
}

LazFormat LazFormat::parse(std::span<const std::uint8_t> r) {
  if (r.size() < 34) damaged("its record of the compression is cut short");
  LazFormat f;
  f.packing = static_cast<Packing>(load<std::uint16_t>(r.data()));
  f.chunk_size = load<std::uint32_t>(r.data() + 12);
  const std::size_t n = load<std::uint16_t>(r.data() + 32);
  if (r.size() < 34 + 6 * n || n == 0) damaged("its record of the compression is cut short");
  if (load<std::uint16_t>(r.data() + 2) != 0)
    throw Error(ErrorCode::Unsupported, "its entropy coder is not known here");
  for (std::size_t i = 0; i < n; ++i) {
    const std::uint8_t* p = r.data() + 34 + 6 * i;
    f.items.push_back(
        {static_cast<ItemType>(load<std::uint16_t>(p)), load<std::uint16_t>(p + 2), load<std::uint16_t>(p + 4)});
  }
  if (f.packing != Packing::Whole && f.packing != Packing::Chunks && f.packing != Packing::Layers)
    throw Error(ErrorCode::Unsupported,
                fmt::format("its way of packing, {}, is not known here", static_cast<int>(f.packing)));
  if (f.packing == Packing::Whole) f.chunk_size = 0xFFFFFFFF;
  if (f.chunk_size == 0) damaged("its chunks hold no points");
  for (std::size_t i = 0; i < n; ++i) {
    const Item& item = f.items[i];
    const bool first_fits = (i == 0) == (item.type == ItemType::Point10 || item.type == ItemType::Point14);
    if (!first_fits || is_layer_item(item.type) != f.layered())
      damaged("its record of the compression contradicts itself");
    int size = item.size;
    switch (item.type) {
      case ItemType::Point10:
        size = 20;
        break;
      case ItemType::Point14:
        size = 30;
        break;
      case ItemType::Time11:
        size = 8;
        break;
      case ItemType::Rgb12:
      case ItemType::Rgb14:
        size = 6;
        break;
      case ItemType::RgbNir14:
        size = 8;
        break;
      case ItemType::Bytes:
      case ItemType::Bytes14:
        break;
      default:
        throw Error(ErrorCode::Unsupported,
                    fmt::format("compressed items of kind {} (waveforms) are not read", static_cast<int>(item.type)));
    }
    if (item.size != size || size == 0) damaged("its record of the compression contradicts itself");
    if (f.layered() ? item.version < 3 || item.version > 4 : item.version != 2)
      throw Error(ErrorCode::Unsupported, fmt::format("compressed items of version {} are not read", item.version));
  }
  return f;
}

std::vector<std::uint8_t> LazFormat::record() const {
  std::vector<std::uint8_t> r(34 + 6 * items.size(), 0);
  store(r.data(), static_cast<std::uint16_t>(packing));
  r[4] = 3;  // the edition of the format that describes these items
  r[5] = 4;
  store(r.data() + 12, chunk_size);
  std::fill_n(r.data() + 16, 16, std::uint8_t{0xFF});  // no special records: -1, -1
  store(r.data() + 32, static_cast<std::uint16_t>(items.size()));
  for (std::size_t i = 0; i < items.size(); ++i) {
    store(r.data() + 34 + 6 * i, static_cast<std::uint16_t>(items[i].type));
    store(r.data() + 36 + 6 * i, items[i].size);
    store(r.data() + 38 + 6 * i, items[i].version);
  }
  return r;
}

// ---- chunks

struct ChunkCoder::Impl {
  explicit Impl(const LazFormat& f) : format(f), length(static_cast<std::size_t>(f.record_length())) {}
  LazFormat format;
  std::size_t length;
  std::unique_ptr<StreamRecords<Decoder>> stream_in;
  std::unique_ptr<StreamRecords<Encoder>> stream_out;
  std::unique_ptr<LayeredRecords<Decoder>> layers_in;
  std::unique_ptr<LayeredRecords<Encoder>> layers_out;

  std::size_t decode_stream(std::span<const std::uint8_t> chunk, std::size_t count, std::uint8_t* out,
                            std::size_t& good) {
    if (!stream_in) stream_in = std::make_unique<StreamRecords<Decoder>>(format);
    stream_in->reset(chunk.data());
    Decoder c;
    c.start(chunk.subspan(length));
    throw_again(decode_records(*stream_in, c, length, count - 1, out + length, good));
    return length + static_cast<std::size_t>(c.taken());
  }

  std::size_t decode_layers(std::span<const std::uint8_t> chunk, std::size_t count, std::uint8_t* out,
                            const WantedLayers& w, std::size_t& good) {
    if (!layers_in) layers_in = std::make_unique<LayeredRecords<Decoder>>(format);
    auto& coders = layers_in->coders();
    const std::size_t head = length + 4 + 4 * coders.size();
    if (chunk.size() < head) damaged(kEndsEarly);
    expect_count(load<std::uint32_t>(chunk.data() + length), count);
    const auto chosen = layers_in->chosen(w);
    std::size_t at = head;
    std::vector<std::uint64_t> sizes;
    for (std::size_t i = 0; i < coders.size(); ++i) {
      const std::size_t size = load<std::uint32_t>(chunk.data() + length + 4 + 4 * i);
      sizes.push_back(size);
      if (size > chunk.size() - at) damaged(kEndsEarly);
      layers_in->want(i, chosen[i] && is_coded(i, size));
      coders[i].start(chunk.subspan(at, size));
      at += size;
    }
    layers_in->reset(chunk.data());
    throw_again(decode_records(*layers_in, length, count - 1, out + length, nullptr, good));
    expect_whole_layers(*layers_in, sizes);
    return at;
  }

  // A layer in which nothing changes is left out of the file; it need not be coded to see that.
  [[gnu::noinline]] void leave_out_what_stays(const std::uint8_t* records, std::size_t count) {
    const auto stays = [&](std::size_t at, std::size_t bytes, std::uint8_t mask) {
      for (std::size_t i = 1; i < count; ++i)
        for (std::size_t k = at; k < at + bytes; ++k)
          if ((records[i * length + k] ^ records[k]) & mask) return false;
      return true;
    };
    constexpr std::uint8_t kAll = 0xFF, kWithoutChannel = 0xCF;
    layers_out->want(kIntensity, !stays(12, 2, kAll));
    layers_out->want(kFlags, !stays(15, 1, kWithoutChannel));
    layers_out->want(kClass, !stays(16, 1, kAll));
    layers_out->want(kUser, !stays(17, 1, kAll));
  }

  void encode_layers(const std::uint8_t* records, std::size_t count, std::vector<std::uint8_t>& out) {
    if (!layers_out) layers_out = std::make_unique<LayeredRecords<Encoder>>(format);
    auto& coders = layers_out->coders();
    for (Encoder& c : coders) c.start();
    layers_out->reset(records);
    leave_out_what_stays(records, count);
    std::vector<std::uint8_t> r(length);
    for (std::size_t i = 1; i < count; ++i) {
      std::memcpy(r.data(), records + i * length, length);
      layers_out->code(r.data());
    }
    const std::size_t head = out.size();
    out.resize(head + 4 + 4 * coders.size());
    store(out.data() + head, static_cast<std::uint32_t>(count));
    for (std::size_t i = 0; i < coders.size(); ++i) {
      std::uint32_t size = 0;
      if (layers_out->changed(i)) {
        const auto bytes = coders[i].finish();
        size = static_cast<std::uint32_t>(bytes.size());
        out.insert(out.end(), bytes.begin(), bytes.end());
      }
      store(out.data() + head + 4 + 4 * i, size);
    }
  }
};

ChunkCoder::ChunkCoder(const LazFormat& format) : impl_(std::make_unique<Impl>(format)) {}
ChunkCoder::~ChunkCoder() = default;
ChunkCoder::ChunkCoder(ChunkCoder&&) noexcept = default;

std::size_t ChunkCoder::decode(std::span<const std::uint8_t> chunk, std::size_t count, std::uint8_t* records,
                               const WantedLayers& wanted, std::size_t* good) {
  std::size_t whole = 0;
  if (!good) good = &whole;
  *good = 0;
  if (count == 0) return 0;
  const std::size_t n = impl_->length;
  if (chunk.size() < n) damaged(kEndsEarly);
  std::memcpy(records, chunk.data(), n);
  *good = 1;
  return impl_->format.layered() ? impl_->decode_layers(chunk, count, records, wanted, *good)
                                 : impl_->decode_stream(chunk, count, records, *good);
}

std::vector<std::uint8_t> ChunkCoder::encode(const std::uint8_t* records, std::size_t count) {
  std::vector<std::uint8_t> out;
  if (count == 0) return out;
  const std::size_t n = impl_->length;
  out.assign(records, records + n);
  if (impl_->format.layered()) {
    impl_->encode_layers(records, count, out);
    return out;
  }
  if (!impl_->stream_out) impl_->stream_out = std::make_unique<StreamRecords<Encoder>>(impl_->format);
  impl_->stream_out->reset(records);
  Encoder c;
  c.start();
  std::vector<std::uint8_t> r(n);
  for (std::size_t i = 1; i < count; ++i) {
    std::memcpy(r.data(), records + i * n, n);
    impl_->stream_out->code(c, r.data());
  }
  const auto bytes = c.finish();
  out.insert(out.end(), bytes.begin(), bytes.end());
  return out;
}

// ---- chunks of any size

struct ChunkStream::Impl {
  // Decoders ask for more so many records apart. A record takes less than this of a layer, or of one stream, beside
  // what it takes of bytes that are coded by themselves: of a symbol three bytes at most.
  static constexpr std::size_t kMostBetween = 256, kLayerBytes = 96, kStreamBytes = 256, kSymbolBytes = 3;

  struct Group {
    explicit Group(const LazFormat& f) : records(f) {}
    LayeredRecords<Decoder> records;
    std::vector<std::size_t> layers;  // that it decodes
    std::uint64_t done = 0;
  };

  Impl(const LazFormat& f, std::uint64_t n, Read r, std::size_t most_groups)
      : length(static_cast<std::size_t>(f.record_length())),
        between(std::clamp<std::size_t>(65536 / length, 1, kMostBetween)),
        count(n),
        read(std::move(r)),
        first(length) {
    expect_bytes(0, first);
    if (f.layered()) {
      begin_layers(f, most_groups);
    } else {
      stream = std::make_unique<StreamRecords<Decoder>>(f);
      stream->reset(first.data());
      ahead = {between * (kStreamBytes + kSymbolBytes * length)};
      feeds.push_back(feed(length, ~std::uint64_t{0}));
      coder.start(feeds[0], ahead[0]);
    }
  }

  void expect_bytes(std::uint64_t at, std::span<std::uint8_t> out) const {
    if (read(at, out) < out.size()) damaged(kEndsEarly);
  }
  Feed feed(std::uint64_t at, std::uint64_t size) const {
    return [this, at, left = size](std::span<std::uint8_t> out) mutable {
      const std::size_t n = read(at, out.first(static_cast<std::size_t>(std::min<std::uint64_t>(out.size(), left))));
      at += n;
      left -= n;
      return n;
    };
  }

  void begin_layers(const LazFormat& f, std::size_t most_groups) {
    groups.push_back(std::make_unique<Group>(f));
    const std::size_t layers = groups[0]->records.coders().size();
    std::vector<std::uint8_t> head(4 + 4 * layers);
    expect_bytes(length, head);
    expect_count(load<std::uint32_t>(head.data()), count);
    sizes.resize(layers);
    std::uint64_t at = length + head.size();
    for (std::size_t i = 0; i < layers; ++i) {
      sizes[i] = load<std::uint32_t>(head.data() + 4 + 4 * i);
      feeds.push_back(feed(at, sizes[i]));
      const bool is_byte = i >= kLayers14 && groups[0]->records.field(i).bytes == 1;
      ahead.push_back(between * (is_byte ? kSymbolBytes : kLayerBytes));
      at += sizes[i];
    }
    bytes = at;
    share_layers(f, most_groups);
    for (auto& g : groups) {
      for (std::size_t i = 0; i < layers; ++i) g->records.want(i, false);
      g->records.reset(first.data());
      for (const std::size_t i : g->layers) {
        g->records.want(i, true);
        g->records.coders()[i].start(feeds[i], ahead[i]);
      }
    }
  }
  // The largest first, each to the group that has least; the first group has the place of records alone, where there
  // are others.
  void share_layers(const LazFormat& f, std::size_t most_groups) {
    std::vector<std::size_t> order;
    for (std::size_t i = 1; i < sizes.size(); ++i)
      if (is_coded(i, sizes[i])) order.push_back(i);
    std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) { return sizes[a] > sizes[b]; });
    groups[0]->layers = {kPlace};
    while (groups.size() < std::min(most_groups, order.size() + 1)) groups.push_back(std::make_unique<Group>(f));
    std::vector<std::uint64_t> load_of(groups.size(), 0);
    for (const std::size_t i : order) {
      const auto least = groups.size() == 1 ? load_of.begin() : std::min_element(load_of.begin() + 1, load_of.end());
      *least += sizes[i] + 1;
      groups[static_cast<std::size_t>(least - load_of.begin())]->layers.push_back(i);
    }
  }

  void next(std::size_t n, std::uint8_t* out, std::size_t& good) {
    for (const std::size_t end = good + n; good < end;) {
      const std::size_t i = n - (end - good), some = std::min(between, end - good);
      coder.refill(feeds[0], ahead[0]);
      throw_again(decode_records(*stream, coder, length, some, out + i * length, good));
    }
  }
  void next(Group& g, std::size_t n, std::uint8_t* out, PlaceStep* steps, std::size_t& good) {
    for (const std::size_t end = good + n; good < end;) {
      const std::size_t i = n - (end - good), some = std::min(between, end - good);
      for (const std::size_t layer : g.layers) g.records.coders()[layer].refill(feeds[layer], ahead[layer]);
      if (&g == groups[0].get()) {
        throw_again(decode_records(g.records, length, some, out + i * length, steps + i, good));
      } else {
        throw_again(follow_records(g.records, length, some, out + i * length, steps + i));
        good += some;
      }
    }
  }

  std::size_t length, between;
  std::uint64_t count, bytes = 0, done = 0;
  Read read;
  std::vector<std::uint8_t> first;
  std::vector<Feed> feeds;           // by layer
  std::vector<std::size_t> ahead;    // by layer
  std::vector<std::uint64_t> sizes;  // of the layers
  std::unique_ptr<StreamRecords<Decoder>> stream;
  Decoder coder;
  std::vector<std::unique_ptr<Group>> groups;
};

ChunkStream::ChunkStream(const LazFormat& format, std::uint64_t count, Read read, std::size_t most_groups)
    : impl_(std::make_unique<Impl>(format, count, std::move(read), most_groups)) {}
ChunkStream::~ChunkStream() = default;
ChunkStream::ChunkStream(ChunkStream&&) noexcept = default;

std::size_t ChunkStream::groups() const { return std::max<std::size_t>(1, impl_->groups.size()); }

void ChunkStream::next(std::size_t group, std::size_t n, std::uint8_t* records, std::vector<PlaceStep>& steps,
                       std::size_t* good) {
  Impl& m = *impl_;
  Impl::Group* g = m.stream ? nullptr : m.groups[group].get();
  std::uint64_t& done = g ? g->done : m.done;
  std::size_t whole = 0;
  if (!good) good = &whole;
  *good = 0;
  if (n == 0) return;
  if (done == 0) {
    std::copy(m.first.begin(), m.first.end(), records);
    *good = 1;
  }
  if (g && group == 0) steps.resize(n);
  const std::size_t from = *good;
  std::uint8_t* out = records + from * m.length;
  if (g)
    m.next(*g, n - from, out, steps.data() + from, *good);
  else
    m.next(n - from, out, *good);
  done += n;
  if (g && done == m.count) expect_whole_layers(g->records, m.sizes);
}

void ChunkStream::join(std::size_t group, std::size_t n, const std::uint8_t* from, std::uint8_t* records) const {
  const Impl::Group& g = *impl_->groups[group];
  for (const std::size_t layer : g.layers) {
    const auto [at, bytes] = g.records.field(layer);
    for (std::size_t i = 0; i < n; ++i)
      std::memcpy(records + i * impl_->length + at, from + i * impl_->length + at, bytes);
  }
}

std::uint64_t ChunkStream::taken() const { return impl_->stream ? impl_->length + impl_->coder.taken() : impl_->bytes; }

// ---- the table

namespace {
template <class Coder>
void code_table(Coder& c, std::vector<ChunkSize>& chunks, bool varies) {
  IntegerModel<Coder, 32, 2> sizes;
  ChunkSize last;
  for (ChunkSize& k : chunks) {
    if (varies)
      k.points = static_cast<std::uint32_t>(
          sizes.code(c, static_cast<std::int32_t>(last.points), static_cast<std::int32_t>(k.points), 0));
    k.bytes = static_cast<std::uint32_t>(
        sizes.code(c, static_cast<std::int32_t>(last.bytes), static_cast<std::int32_t>(k.bytes), 1));
    last = k;
  }
}
}  // namespace

std::vector<std::uint8_t> encode_chunk_table(const std::vector<ChunkSize>& chunks, bool varies) {
  std::vector<std::uint8_t> out(8, 0);
  store(out.data() + 4, static_cast<std::uint32_t>(chunks.size()));
  if (chunks.empty()) return out;
  Encoder c;
  c.start();
  std::vector<ChunkSize> copy = chunks;
  code_table(c, copy, varies);
  const auto bytes = c.finish();
  out.insert(out.end(), bytes.begin(), bytes.end());
  return out;
}

std::vector<ChunkSize> decode_chunk_table(std::span<const std::uint8_t> bytes, bool varies, std::uint64_t most) {
  if (bytes.size() < 8) damaged("its table of chunks ends early");
  if (load<std::uint32_t>(bytes.data()) != 0) damaged("its table of chunks is of an unknown kind");
  const std::uint32_t n = load<std::uint32_t>(bytes.data() + 4);
  if (n > most) damaged("its table lists more chunks than the file can hold");
  std::vector<ChunkSize> chunks(n);
  if (n == 0) return chunks;
  Decoder c;
  c.start(bytes.subspan(8));
  code_table(c, chunks, varies);
  if (c.overrun() > 4) damaged("its table of chunks ends early");
  return chunks;
}

}  // namespace katoptra::laz

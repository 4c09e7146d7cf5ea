// libtiff over our bytes, and the mask that a TIFF may have beside its values.
#pragma once
#include <cstdarg>
#include <cstdio>
#include <cstring>
#include <memory>
#include <span>
#include <string>
#include <tiffio.h>
#include <vector>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/bytes.hpp"
#include "katoptra/grid/grid.hpp"

namespace katoptra::tiff {

// A decoded tile or strip larger than this is taken for a damaged header.
inline constexpr std::uint64_t kMostBlockBytes = std::uint64_t{1} << 30;

// One libtiff handle over a ByteSource. Handles are not thread-safe; readers take one each from a pool.
class Handle {
 public:
  explicit Handle(std::shared_ptr<ByteSource> bytes) : bytes_(std::move(bytes)) {
    std::unique_ptr<TIFFOpenOptions, void (*)(TIFFOpenOptions*)> options(TIFFOpenOptionsAlloc(), TIFFOpenOptionsFree);
    TIFFOpenOptionsSetMaxSingleMemAlloc(options.get(), static_cast<tmsize_t>(kMostBlockBytes));
    TIFFOpenOptionsSetErrorHandlerExtR(options.get(), &Handle::keep_error, this);
    TIFFOpenOptionsSetWarningHandlerExtR(options.get(), &Handle::drop_warning, this);
    tiff_ = TIFFClientOpenExt(bytes_->name().c_str(), "rm", this, &Handle::read, &Handle::write, &Handle::seek,
                              &Handle::close, &Handle::size, nullptr, nullptr, options.get());
    if (!tiff_)
      throw Error(ErrorCode::BadFile, "is not a readable TIFF: " + message("its header is damaged"), bytes_->name(),
                  "fetch it again, or check what it is");
  }
  ~Handle() { TIFFClose(tiff_); }
  Handle(const Handle&) = delete;
  Handle& operator=(const Handle&) = delete;

  TIFF* get() const { return tiff_; }
  std::string message(const std::string& otherwise) const { return error_.empty() ? otherwise : error_; }

  template <class T>
  T field(std::uint32_t tag, T otherwise) const {
    T v = otherwise;
    return TIFFGetFieldDefaulted(tiff_, tag, &v) ? v : otherwise;
  }
  // A tag that libtiff has no name for, when it has the expected type.
  template <class T>
  std::vector<T> array(std::uint32_t tag, TIFFDataType type) const {
    const TIFFField* f = TIFFFindField(tiff_, tag, TIFF_ANY);
    std::uint32_t count = 0;
    const T* data = nullptr;
    if (!f || TIFFFieldDataType(f) != type || !TIFFFieldPassCount(f)) return {};
    if (TIFFFieldReadCount(f) == TIFF_VARIABLE2) {
      if (!TIFFGetField(tiff_, tag, &count, &data)) return {};
    } else {
      std::uint16_t count16 = 0;
      if (!TIFFGetField(tiff_, tag, &count16, &data)) return {};
      count = count16;
    }
    return data ? std::vector<T>(data, data + count) : std::vector<T>();
  }
  std::string text(std::uint32_t tag) const {
    const auto chars = array<char>(tag, TIFF_ASCII);
    if (chars.empty()) return {};
    return {chars.data(), strnlen(chars.data(), chars.size())};
  }

 private:
  static tmsize_t read(thandle_t self, void* to, tmsize_t n) {
    auto* h = static_cast<Handle*>(self);
    if (n <= 0) return 0;
    try {
      const std::size_t got =
          h->bytes_->read_at(h->at_, std::span(static_cast<std::uint8_t*>(to), static_cast<std::size_t>(n)));
      h->at_ += got;
      return static_cast<tmsize_t>(got);
    } catch (const Error& e) {
      h->error_ = e.problem();
      return -1;
    }
  }
  static tmsize_t write(thandle_t, void*, tmsize_t) { return -1; }
  static toff_t seek(thandle_t self, toff_t to, int whence) {
    auto* h = static_cast<Handle*>(self);
    h->at_ = whence == SEEK_SET ? to : whence == SEEK_CUR ? h->at_ + to : h->bytes_->size() + to;
    return h->at_;
  }
  static int close(thandle_t) { return 0; }
  static toff_t size(thandle_t self) { return static_cast<Handle*>(self)->bytes_->size(); }
  static int keep_error(TIFF*, void* self, const char*, const char* format, va_list args) {
    char text[300];
    std::vsnprintf(text, sizeof text, format, args);
    static_cast<Handle*>(self)->error_ = text;
    return 1;
  }
  static int drop_warning(TIFF*, void*, const char*, const char*, va_list) { return 1; }

  std::shared_ptr<ByteSource> bytes_;
  TIFF* tiff_ = nullptr;
  std::uint64_t at_ = 0;
  std::string error_;
};

// The mask in a directory of the file, as large as the frame: not zero where there is a value; one or eight bits a
// cell. Decoded by libtiff.
Grid open_mask(const std::shared_ptr<ByteSource>& bytes, std::uint16_t directory, const Frame& frame);

}  // namespace katoptra::tiff

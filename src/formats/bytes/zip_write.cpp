#include "zip_write.hpp"

#include <archive.h>
#include <archive_entry.h>
#include <utility>

#include "katoptra/base/error.hpp"

namespace katoptra {

ZipWriter::ZipWriter(ByteSink& sink, std::string file)
    : sink_(sink), file_(std::move(file)), archive_(archive_write_new(), archive_write_free) {}

void ZipWriter::refuse() const {
  const char* why = archive_error_string(archive_.get());
  throw Error(ErrorCode::Io, std::string("the archive cannot be packed") + (why ? std::string(": ") + why : ""), file_);
}

void ZipWriter::add(const std::string& name, std::span<const std::uint8_t> bytes) {
  if (!open_) {
    archive_write_set_format_zip(archive_.get());
    archive_write_set_bytes_per_block(archive_.get(), 0);
    const auto write = [](archive* a, void* self, const void* data, std::size_t n) -> la_ssize_t {
      auto& zip = *static_cast<ZipWriter*>(self);
      try {
        zip.sink_.write_at(zip.at_, std::span(static_cast<const std::uint8_t*>(data), n));
      } catch (const std::exception& e) {
        archive_set_error(a, ARCHIVE_FATAL, "%s", e.what());
        return -1;
      }
      zip.at_ += n;
      return static_cast<la_ssize_t>(n);
    };
    if (archive_write_open2(archive_.get(), this, nullptr, write, nullptr, nullptr) != ARCHIVE_OK) refuse();
    open_ = true;
  }
  const std::unique_ptr<archive_entry, void (*)(archive_entry*)> e(archive_entry_new(), archive_entry_free);
  archive_entry_set_pathname(e.get(), name.c_str());
  archive_entry_set_size(e.get(), static_cast<la_int64_t>(bytes.size()));
  archive_entry_set_filetype(e.get(), AE_IFREG);
  archive_entry_set_perm(e.get(), 0644);
  archive_entry_set_mtime(e.get(), 315532800, 0);  // 1980, the first that zip knows: the same bytes every time
  if (archive_write_header(archive_.get(), e.get()) != ARCHIVE_OK ||
      archive_write_data(archive_.get(), bytes.data(), bytes.size()) != static_cast<la_ssize_t>(bytes.size()))
    refuse();
}

void ZipWriter::add(const std::string& name, const std::string& text) {
  add(name, std::span(reinterpret_cast<const std::uint8_t*>(text.data()), text.size()));
}

std::uint64_t ZipWriter::finish() {
  if (archive_write_close(archive_.get()) != ARCHIVE_OK) refuse();
  return at_;
}

}  // namespace katoptra

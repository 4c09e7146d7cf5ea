// An open file of the system as a source of bytes.
#pragma once
#include <cstdint>
#include <fcntl.h>
#include <filesystem>
#include <span>
#include <string>
#include <sys/stat.h>
#include <unistd.h>
#include <utility>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/bytes.hpp"

#include "base/scratch.hpp"

namespace katoptra {

// What a file was when it was opened.
struct FileState {
  FileState() = default;
  explicit FileState(const struct stat& st)
      : device(st.st_dev),
        number(st.st_ino),
        size(static_cast<std::uint64_t>(st.st_size)),
        changed(std::int64_t{st.st_mtim.tv_sec} * 1'000'000'000 + st.st_mtim.tv_nsec) {}
  // Of a path, for libraries that open files themselves; nothing is expected of what is not there.
  explicit FileState(const std::filesystem::path& path) {
    if (struct stat st{}; !path.empty() && ::stat(path.c_str(), &st) == 0) *this = FileState(st);
  }
  // BadFile when it has been rewritten or cut since.
  void expect_in(int fd, const std::string& name) const {
    if (struct stat st{}; ::fstat(fd, &st) == 0) expect(FileState(st), name);
  }
  void expect_at(const std::filesystem::path& path, const std::string& name) const {
    if (struct stat st{}; number != 0 && ::stat(path.c_str(), &st) == 0 && st.st_ino == number)
      expect(FileState(st), name);
  }

  dev_t device = 0;
  ino_t number = 0;
  std::uint64_t size = 0;
  std::int64_t changed = 0;  // nanoseconds

 private:
  void expect(const FileState& now, const std::string& name) const {
    if (now.size != size || now.changed != changed)
      throw Error(ErrorCode::BadFile, "was changed while it was read", name,
                  "wait until it is whole, and run this again");
  }
};

// The bytes of an open file; closes it.
class DescriptorSource : public ByteSource {
 public:
  DescriptorSource(std::string name, int fd, std::uint64_t size) : size_(size), name_(std::move(name)), fd_(fd) {}
  ~DescriptorSource() override { ::close(fd_); }
  DescriptorSource(const DescriptorSource&) = delete;
  DescriptorSource& operator=(const DescriptorSource&) = delete;
  std::uint64_t size() const override { return size_; }
  const std::string& name() const override { return name_; }
  void will_need(std::uint64_t offset, std::uint64_t bytes) const override {
    ::posix_fadvise(fd_, static_cast<off_t>(offset), static_cast<off_t>(bytes), POSIX_FADV_WILLNEED);
  }
  std::size_t read_at(std::uint64_t offset, std::span<std::uint8_t> out) const override {
    return read_descriptor(fd_, offset, out, name_);
  }

 protected:
  int descriptor() const { return fd_; }
  std::uint64_t size_;

 private:
  std::string name_;
  int fd_;
};

}  // namespace katoptra

// An open file of the system as a source of bytes.
#pragma once
#include <cstdint>
#include <fcntl.h>
#include <span>
#include <string>
#include <unistd.h>
#include <utility>

#include "katoptra/formats/bytes.hpp"

#include "base/scratch.hpp"

namespace katoptra {

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

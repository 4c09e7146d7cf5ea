// A database that is made in a file without a name, so that its size does not matter, and poured out when it is whole.
#pragma once
#include <cstdint>
#include <filesystem>
#include <functional>
#include <span>
#include <string>
#include <unistd.h>
#include <vector>

#include "scratch.hpp"
#include "sqlite.hpp"

namespace katoptra {

class ScratchSql {
 public:
  // `wanted_for`: the file in an Error.
  explicit ScratchSql(const std::string& wanted_for)
      : file_(wanted_for), sql_(file_.path, Sql::Mode::ReadWrite, wanted_for) {
    // Nobody reads it before it is whole, and it is gone with us. The first statement opens the file.
    sql_.run("PRAGMA journal_mode = OFF");
    sql_.run("PRAGMA synchronous = OFF");
    sql_.run("PRAGMA user_version = 0");
    file_.unlink();
  }
  ScratchSql(const ScratchSql&) = delete;
  ScratchSql& operator=(const ScratchSql&) = delete;

  Sql& sql() { return sql_; }
  // All of its bytes, in order; returns how many. What was begun must have been committed.
  std::uint64_t pour(const std::function<void(std::uint64_t offset, std::span<const std::uint8_t>)>& take) const {
    std::vector<std::uint8_t> part(std::size_t{1} << 20);
    std::uint64_t at = 0;
    for (;;) {
      const std::size_t n = read_descriptor(file_.fd, at, part, file_.name);
      if (n == 0) return at;
      take(at, std::span(part).first(n));
      at += n;
    }
  }

 private:
  // Goes away, whatever happens.
  struct File {
    explicit File(const std::string& wanted_for) : name(wanted_for), fd(open_temporary_file(wanted_for, path)) {}
    ~File() {
      unlink();
      ::close(fd);
    }
    File(const File&) = delete;
    File& operator=(const File&) = delete;
    void unlink() {
      if (!path.empty()) ::unlink(path.c_str());
      path.clear();
    }
    std::string path, name;
    int fd;
  };
  File file_;
  Sql sql_;
};

}  // namespace katoptra

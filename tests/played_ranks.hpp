// Processes that share work (base/ranks.hpp), played by one: results travel as bytes and come in another order.
#pragma once
#include <cstdint>
#include <fstream>
#include <map>
#include <memory>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "base/ranks.hpp"

namespace katoptra::testing {

// Makes everything from the last to the first, sends it, and places it in order. What all take is then made once more,
// as by one who is late: nothing may come of it.
class PlayedRanks final : public Ranks {
 public:
  // `keeps`: of every other result long pieces stay with their maker, who writes them.
  explicit PlayedRanks(bool first, bool keeps = false) : first_(first), keeps_(keeps) { use_ranks(this); }
  ~PlayedRanks() override { use_ranks(nullptr); }
  bool is_first() const override { return first_; }
  void share(const SharedWork& work) override {
    ++runs;
    listened += work.listens;
    std::vector<std::vector<std::uint8_t>> sent(work.n);
    std::map<std::uint64_t, std::shared_ptr<void>> kept;
    const bool keeps = keeps_ && work.long_pieces;
    const std::vector<SharedFile> files = keeps ? work.long_pieces->files() : std::vector<SharedFile>();
    for (const SharedFile& f : files) marks_are_there &= begins_with(f);
    for (std::size_t i = work.n; i-- > 0;) {
      const WithinWork within;
      auto made = work.make(i);
      if (keeps && i % 2 == 1)
        sent[i] = work.long_pieces->pack(kept[i] = made);
      else
        sent[i] = work.pack(made);
    }
    const bool tells_of_folder = work.n == 1 && work.to_all && holds_folder(sent[0]);
    if (disk_is_elsewhere && tells_of_folder) sent[0].back() ^= 1;
    if (first_ || work.to_all)
      for (std::size_t i = 0; i < work.n; ++i) {
        work.place(i, work.unpack(sent[i]));
        if (keeps)
          for (const LongPieces::Place& p : work.long_pieces->places()) {
            const auto bytes = work.long_pieces->bytes(kept.at(p.number), p.piece);
            sizes_are_right &= bytes.size() == p.size;
            write(files.at(p.file).path, p.offset, bytes);
            written += bytes.size();
          }
      }
    for (std::size_t i = 0; i < work.n && work.to_all && !tells_of_folder; ++i) {
      const WithinWork within;
      work.make(i);
    }
    for (const auto& [number, result] : kept) kept_bytes += work.long_pieces->size(result);
  }
  int runs = 0, listened = 0;  // of which this process made nothing
  // The mark of a folder that another made is not the one that is there.
  bool disk_is_elsewhere = false;
  // Of pieces that stayed with their maker.
  std::uint64_t written = 0, kept_bytes = 0;
  bool marks_are_there = true, sizes_are_right = true;

 private:
  // The path of a folder that is made once for all (base/common_folder.hpp).
  static bool holds_folder(const std::vector<std::uint8_t>& bytes) {
    return std::string_view(reinterpret_cast<const char*>(bytes.data()), bytes.size()).find("/katoptra-") !=
           std::string_view::npos;
  }
  static bool begins_with(const SharedFile& f) {
    std::ifstream in(f.path, std::ios::binary);
    std::vector<std::uint8_t> there(f.mark.size());
    in.read(reinterpret_cast<char*>(there.data()), static_cast<std::streamsize>(there.size()));
    return in && there == f.mark && !f.mark.empty();
  }
  static void write(const std::string& path, std::uint64_t offset, std::span<const std::uint8_t> bytes) {
    std::fstream out(path, std::ios::binary | std::ios::in | std::ios::out);
    out.seekp(static_cast<std::streamoff>(offset));
    out.write(reinterpret_cast<const char*>(bytes.data()), static_cast<std::streamsize>(bytes.size()));
  }
  bool first_, keeps_;
};

}  // namespace katoptra::testing

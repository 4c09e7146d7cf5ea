#include "katoptra/base/memory.hpp"

#include <algorithm>
#include <cstddef>
#include <cstring>
#include <limits>
#include <memory>
#include <new>

namespace katoptra {
namespace {

constexpr std::size_t kSmall = 16u << 10, kMostShelved = 20u << 20;
// In front of each larger piece: how many bytes it really has.
constexpr std::size_t kHead = std::max(alignof(std::max_align_t), sizeof(std::size_t));

struct Piece {
  std::size_t bytes;
  std::unique_ptr<std::byte[]> memory;  // from its head on
};
struct Shelf {
  std::vector<Piece> pieces;
  std::size_t bytes = 0;
};

Shelf* shelf() {
  // The pointer outlives the shelf: memory may be given back while a thread ends.
  thread_local Shelf* here = nullptr;
  thread_local struct Owner {
    Shelf own;
    Owner() { here = &own; }
    ~Owner() { here = nullptr; }
  } owner;
  return here;
}

}  // namespace

void* take_memory(std::size_t bytes) {
  if (bytes < kSmall) return ::operator new(bytes);
  if (Shelf* s = shelf())
    for (std::size_t i = s->pieces.size(); i-- > 0;)
      if (Piece& p = s->pieces[i]; p.bytes >= bytes && p.bytes / 2 <= bytes) {
        std::byte* memory = p.memory.release();
        s->bytes -= p.bytes;
        s->pieces.erase(s->pieces.begin() + static_cast<std::ptrdiff_t>(i));
        return memory + kHead;
      }
  if (bytes > std::numeric_limits<std::ptrdiff_t>::max() - kHead) throw std::bad_alloc();
  auto* memory = new std::byte[bytes + kHead];
  std::memcpy(memory, &bytes, sizeof bytes);
  return memory + kHead;
}

void give_memory(void* memory, std::size_t bytes) noexcept {
  if (bytes < kSmall) return ::operator delete(memory);
  std::unique_ptr<std::byte[]> piece(static_cast<std::byte*>(memory) - kHead);
  std::size_t size = 0;
  std::memcpy(&size, piece.get(), sizeof size);
  Shelf* s = shelf();
  if (!s || size > kMostShelved) return;
  // The oldest goes: what a thread gives back more often than it takes would fill the shelf, and stay.
  while (s->bytes + size > kMostShelved) {
    s->bytes -= s->pieces.front().bytes;
    s->pieces.erase(s->pieces.begin());
  }
  try {
    s->pieces.push_back({size, std::move(piece)});
    s->bytes += size;
  } catch (const std::bad_alloc&) {  // no room to note it: the piece goes back to the system
  }
}

}  // namespace katoptra

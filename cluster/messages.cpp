#include "messages.hpp"

#include <zstd.h>

#include "katoptra/base/error.hpp"

#include "base/packed.hpp"

namespace katoptra {
namespace {

constexpr int kTag = 1;

}  // namespace

std::vector<std::uint8_t> with_head(const Head& head, std::vector<std::uint8_t> bytes) {
  Packer p{std::move(bytes)};
  p.put(head);
  if (p.bytes.size() > 0x7FFFFFFF) throw Error(ErrorCode::TooLarge, "a result is too large to be sent");
  return std::move(p.bytes);
}

void send(int to, const Head& head, std::vector<std::uint8_t> bytes) {
  const std::vector<std::uint8_t> all = with_head(head, std::move(bytes));
  MPI_Send(all.data(), static_cast<int>(all.size()), MPI_BYTE, to, kTag, MPI_COMM_WORLD);
}

std::vector<std::uint8_t> packed(const SharedWork& work, std::vector<std::uint8_t> bytes) {
  if (!work.to_all) return bytes;
  std::vector<std::uint8_t> out(ZSTD_compressBound(bytes.size()));
  const std::size_t n = ZSTD_compress(out.data(), out.size(), bytes.data(), bytes.size(), 1);
  if (ZSTD_isError(n)) throw Error(ErrorCode::TooLarge, "a result is too large to be packed");
  out.resize(n);
  return out;
}
std::shared_ptr<void> unpacked(const SharedWork& work, std::span<const std::uint8_t> bytes) {
  if (!work.to_all) return work.unpack(bytes);
  constexpr unsigned long long kMost = 1ull << 32;  // messages are smaller
  const unsigned long long size = ZSTD_getFrameContentSize(bytes.data(), bytes.size());
  std::vector<std::uint8_t> out(size <= kMost ? size : 0);
  if (size > kMost || ZSTD_decompress(out.data(), out.size(), bytes.data(), bytes.size()) != size)
    throw Error(ErrorCode::Io, "what another process sent is damaged");
  return work.unpack(out);
}

void Outbox::send(int to, std::shared_ptr<const std::vector<std::uint8_t>> bytes) {
  sent_.push_back({std::move(bytes), MPI_REQUEST_NULL});
  Sent& s = sent_.back();
  MPI_Isend(s.bytes->data(), static_cast<int>(s.bytes->size()), MPI_BYTE, to, kTag, MPI_COMM_WORLD, &s.request);
  waiting_ += s.bytes->size();
}

std::size_t Outbox::waiting() {
  std::erase_if(sent_, [&](Sent& s) {
    int done = 0;
    MPI_Test(&s.request, &done, MPI_STATUS_IGNORE);
    if (done) waiting_ -= s.bytes->size();
    return done != 0;
  });
  return waiting_;
}

std::optional<Message> Inbox::next() {
  int done = 0;
  if (!is_coming()) {
    int size = 0;
    MPI_Status status;
    MPI_Message found;
    MPI_Improbe(MPI_ANY_SOURCE, kTag, MPI_COMM_WORLD, &done, &found, &status);
    if (!done) return std::nullopt;
    MPI_Get_count(&status, MPI_BYTE, &size);
    coming_.bytes.resize(static_cast<std::size_t>(size));
    coming_.from = status.MPI_SOURCE;
    MPI_Imrecv(coming_.bytes.data(), size, MPI_BYTE, &found, &request_);
  }
  MPI_Test(&request_, &done, MPI_STATUS_IGNORE);
  if (!done) return std::nullopt;
  Message m = std::move(coming_);
  const std::size_t body = m.bytes.size() - std::min(m.bytes.size(), sizeof(Head));
  static_cast<Head&>(m) = Unpacker(std::span<const std::uint8_t>(m.bytes).subspan(body)).take<Head>();
  m.bytes.resize(body);
  return m;
}

std::vector<std::uint8_t> packed_files(const std::vector<SharedFile>& files) {
  Packer p;
  p.put(files.size());
  for (const SharedFile& f : files) {
    p.put(std::vector<char>(f.path.begin(), f.path.end()));
    p.put(f.mark);
  }
  return std::move(p.bytes);
}
std::vector<SharedFile> unpacked_files(std::span<const std::uint8_t> bytes) {
  Unpacker u(bytes);
  std::vector<SharedFile> files;
  for (auto n = u.take<std::size_t>(); n > 0; --n) {
    const auto path = u.take_all<char>();
    files.push_back({std::string(path.begin(), path.end()), u.take_all<std::uint8_t>()});
  }
  return files;
}

std::string reason(const std::exception_ptr& error) {
  try {
    std::rethrow_exception(error);
  } catch (const std::exception& e) {
    return e.what();
  } catch (...) {
    return "unknown";
  }
}

}  // namespace katoptra

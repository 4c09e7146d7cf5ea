// SQLite with owners and Errors. One Sql serves one thread at a time.
#pragma once
#include <algorithm>
#include <cstdint>
#include <filesystem>
#include <fmt/format.h>
#include <memory>
#include <optional>
#include <sqlite3.h>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "katoptra/base/error.hpp"

namespace katoptra {

// A prepared statement: bind by position from 1, step through rows, read columns from 0.
class SqlQuery {
 public:
  SqlQuery(sqlite3* db, const std::string& sql, std::string file) : db_(db), file_(std::move(file)) {
    sqlite3_stmt* s = nullptr;
    if (sqlite3_prepare_v2(db, sql.c_str(), -1, &s, nullptr) != SQLITE_OK) fail();
    statement_.reset(s);
  }
  SqlQuery& bind(int i, std::int64_t v) {
    sqlite3_bind_int64(statement_.get(), i, v);
    return *this;
  }
  SqlQuery& bind(int i, double v) {
    sqlite3_bind_double(statement_.get(), i, v);
    return *this;
  }
  // The text must live until the next step or reset.
  SqlQuery& bind(int i, std::string_view v) {
    sqlite3_bind_text64(statement_.get(), i, v.data() ? v.data() : "", v.size(), SQLITE_STATIC, SQLITE_UTF8);
    return *this;
  }
  SqlQuery& bind_blob(int i, std::string_view v) {
    sqlite3_bind_blob64(statement_.get(), i, v.data(), v.size(), SQLITE_STATIC);
    return *this;
  }
  bool step() {
    const int code = sqlite3_step(statement_.get());
    if (code == SQLITE_ROW) return true;
    if (code != SQLITE_DONE) fail();
    return false;
  }
  // For statements without rows: runs, then waits for the next values.
  void run() {
    while (step()) {
    }
    sqlite3_reset(statement_.get());
  }
  void reset() { sqlite3_reset(statement_.get()); }
  // What was bound before is forgotten, too.
  void clear() {
    reset();
    sqlite3_clear_bindings(statement_.get());
  }
  int columns() const { return sqlite3_column_count(statement_.get()); }
  std::string column_name(int c) const { return sqlite3_column_name(statement_.get(), c); }
  int type(int c) const { return sqlite3_column_type(statement_.get(), c); }  // SQLITE_INTEGER, SQLITE_FLOAT ...
  // Until the next step.
  std::string_view blob(int c) const {
    const void* p = sqlite3_column_blob(statement_.get(), c);
    return {static_cast<const char*>(p), p ? static_cast<std::size_t>(sqlite3_column_bytes(statement_.get(), c)) : 0};
  }
  std::int64_t integer(int c) const { return sqlite3_column_int64(statement_.get(), c); }
  double real(int c) const { return sqlite3_column_double(statement_.get(), c); }
  std::string text(int c) const {
    const auto* p = reinterpret_cast<const char*>(sqlite3_column_text(statement_.get(), c));
    return p ? std::string(p, static_cast<std::size_t>(sqlite3_column_bytes(statement_.get(), c))) : std::string();
  }

 private:
  [[noreturn]] void fail() const {
    const int code = sqlite3_errcode(db_);
    const std::string why = sqlite3_errmsg(db_);
    if (code == SQLITE_FULL || code == SQLITE_IOERR || code == SQLITE_READONLY || code == SQLITE_CANTOPEN)
      throw Error(ErrorCode::Io, "cannot be written: " + why, file_, "check the disk and its permissions");
    if (code == SQLITE_BUSY || code == SQLITE_LOCKED)
      throw Error(ErrorCode::Io, "is in use by another program", file_, "wait until that is done");
    if (code == SQLITE_NOTADB) throw Error(ErrorCode::BadFile, "is no database", file_, "name another file");
    throw Error(ErrorCode::BadFile, "is damaged or not what it should be: " + why, file_,
                "name another file, or make this one anew");
  }
  struct Finalize {
    void operator()(sqlite3_stmt* s) const { sqlite3_finalize(s); }
  };
  sqlite3* db_;
  std::string file_;
  std::unique_ptr<sqlite3_stmt, Finalize> statement_;
};

class Sql {
 public:
  enum class Mode { ReadWrite, ReadOnly };
  // Made when it is not there, unless it is only read. An empty path: in memory. `name`: in Errors, if not the path.
  explicit Sql(const std::filesystem::path& path, Mode mode = Mode::ReadWrite, const std::string& name = {})
      : file_(!name.empty()  ? name
              : path.empty() ? "a table in memory"
                             : path.string()) {
    sqlite3* db = nullptr;
    const int flags = mode == Mode::ReadOnly ? SQLITE_OPEN_READONLY : SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE;
    const int code =
        sqlite3_open_v2(path.empty() ? ":memory:" : path.c_str(), &db, flags | SQLITE_OPEN_NOMUTEX, nullptr);
    db_.reset(db);
    if (code != SQLITE_OK)
      throw Error(ErrorCode::Io, fmt::format("cannot be opened: {}", db ? sqlite3_errmsg(db) : "no memory"), file_,
                  mode == Mode::ReadOnly ? "check its permissions" : "check that its folder exists and may be written");
    sqlite3_busy_timeout(db, 5000);
  }
  // The bytes of a database, which is only read.
  Sql(std::vector<std::uint8_t> bytes, const std::string& name) : Sql(std::filesystem::path(), Mode::ReadWrite, name) {
    auto* copy = static_cast<unsigned char*>(sqlite3_malloc64(bytes.size()));
    if (!copy) throw Error(ErrorCode::TooLarge, "does not fit into memory", file_, "unpack it first");
    std::copy(bytes.begin(), bytes.end(), copy);
    const auto n = static_cast<sqlite3_int64>(bytes.size());
    if (sqlite3_deserialize(db_.get(), "main", copy, n, n,
                            SQLITE_DESERIALIZE_FREEONCLOSE | SQLITE_DESERIALIZE_READONLY) != SQLITE_OK)
      throw Error(ErrorCode::BadFile, "is no database that can be read in memory", file_, "unpack it first");
  }
  void run(const std::string& sql) { SqlQuery(db_.get(), sql, file_).run(); }
  // Several statements, parted by semicolons.
  void run_all(const std::string& script) {
    const int code = sqlite3_exec(db_.get(), script.c_str(), nullptr, nullptr, nullptr);
    if (code == SQLITE_FULL || code == SQLITE_IOERR)
      throw Error(ErrorCode::Io, fmt::format("cannot be written: {}", sqlite3_errmsg(db_.get())), file_,
                  "check the disk and its permissions");
    if (code != SQLITE_OK)
      throw Error(ErrorCode::BadFile, fmt::format("does not take its tables: {}", sqlite3_errmsg(db_.get())), file_);
  }
  // The whole database as the bytes of a file; TooLarge when they do not fit into memory.
  std::vector<std::uint8_t> bytes() const {
    sqlite3_int64 size = 0;
    const std::unique_ptr<unsigned char, void (*)(void*)> all(sqlite3_serialize(db_.get(), "main", &size, 0),
                                                              sqlite3_free);
    if (!all) throw Error(ErrorCode::TooLarge, "does not fit into memory", file_);
    return {all.get(), all.get() + size};
  }
  SqlQuery query(const std::string& sql) const { return {db_.get(), sql, file_}; }
  // Makes a new file one of ours by its application id; true when it is new. BadFile when it is another program's.
  bool claim(std::int64_t application, const char* what) {
    auto one = [&](const char* question) {
      auto q = query(question);
      q.step();
      return q.integer(0);
    };
    if (one("SELECT count(*) FROM sqlite_master") == 0) {
      run(fmt::format("PRAGMA application_id = {}", application));
      return true;
    }
    if (one("PRAGMA application_id") != application)
      throw Error(ErrorCode::BadFile, fmt::format("is a database, but no {}", what), file_, "name another file");
    return false;
  }
  std::int64_t last_row() const { return sqlite3_last_insert_rowid(db_.get()); }
  const std::string& file() const { return file_; }

 private:
  struct Close {
    void operator()(sqlite3* d) const { sqlite3_close_v2(d); }
  };
  std::string file_;
  std::unique_ptr<sqlite3, Close> db_;
};

// All or nothing.
class SqlTransaction {
 public:
  explicit SqlTransaction(Sql& sql) : sql_(sql) { sql_.run("BEGIN IMMEDIATE"); }
  ~SqlTransaction() {
    if (done_) return;
    try {
      sql_.run("ROLLBACK");
    } catch (const Error&) {
      // The database rolled back by itself, or is gone.
    }
  }
  SqlTransaction(const SqlTransaction&) = delete;
  SqlTransaction& operator=(const SqlTransaction&) = delete;
  void commit() {
    sql_.run("COMMIT");
    done_ = true;
  }

 private:
  Sql& sql_;
  bool done_ = false;
};

}  // namespace katoptra

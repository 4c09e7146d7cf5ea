// A stand-in for the data services that surveys come from: a folder of tiles as a STAC API, files with ranges and tags,
// a page with the search on a map for browsers (who ask for HTML at the address), a key for what is restricted, and
// extraction on demand as OGC API - Processes. It can misbehave on purpose, so that the other side can be tested.
//
//   Service s({.folder = "demo/data"});
//   std::thread t([&] { s.run(); });
//   s.address();                     // "http://127.0.0.1:41234/"
//   s.stop(); t.join();
#pragma once
#include <filesystem>
#include <functional>
#include <memory>
#include <string>

namespace katoptra {

// Every how-maniest answer goes wrong; 0: none. Counted, not drawn by lot, so that a test can be repeated.
struct Misbehaviour {
  double bytes_per_second = 0;  // files come no faster; 0: as fast as they can
  int cut_every = 0;            // the connection ends in the middle of a file
  int fail_every = 0;           // status 503
  int busy_every = 0;           // status 429, Retry-After: 1
  int truncate_every = 0;       // a whole file comes short, and the answer says that it is so long
  int wrong_parts_every = 0;    // a part is not the one that was asked for, each time in another way
  bool wrong_sizes = false;     // the catalogue says other sizes than files have
  bool no_ranges = false;       // files come whole or not at all
};

struct ServiceOptions {
  std::filesystem::path folder;
  std::string host = "127.0.0.1";  // loopback unless told otherwise
  int port = 0;                    // 0: any that is free
  std::string key;                 // opens what is restricted; without it, that stays closed
  int page = 100;                  // most items in an answer
  std::filesystem::path book;      // whose orders and fetches the page shows; empty: none
  int job_seconds = 0;             // an extraction waits this long in the queue
  Misbehaviour wrong;
  // Each request in one line: method, path, status, bytes. Keys are not in it.
  std::function<void(const std::string&)> log;
};

class Service {
 public:
  // Reads the folder and takes the port. Io when the port is taken.
  explicit Service(ServiceOptions options);
  ~Service();
  std::string address() const;
  // Serves until stop() is called.
  void run();
  void stop();

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

}  // namespace katoptra

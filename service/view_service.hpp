// A surface too large for one page, shown by a service on this machine: the page and what it asks for
// (view/viewer.hpp).
//
//   ViewService s(SurfaceViewer({.title = "Marrowick", .surfaces = {{"", dem}}}), {});
//   std::thread t([&] { s.run(); });
//   s.address();                     // "http://127.0.0.1:41234/": for a browser
//   s.stop(); t.join();
#pragma once
#include <functional>
#include <memory>
#include <string>

#include "katoptra/view/viewer.hpp"

namespace katoptra {

struct ViewServiceOptions {
  std::string host = "127.0.0.1";  // loopback unless told otherwise
  int port = 0;                    // 0: any that is free
  // Why what is shown is no longer what there is; empty when it is. Asked before each part.
  std::function<std::string()> stale = {};
  std::function<void(const std::string&)> log = {};
};

class ViewService {
 public:
  // Takes the port; Io when it is taken.
  ViewService(SurfaceViewer viewer, ViewServiceOptions options);
  ~ViewService();
  std::string address() const;
  // Serves until stop() is called.
  void run();
  void stop();

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

}  // namespace katoptra

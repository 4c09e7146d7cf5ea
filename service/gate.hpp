// Who may ask a service that listens on this machine.
#pragma once
#include <fmt/format.h>
#include <httplib.h>
#include <string>
#include <sys/socket.h>

#include "katoptra/base/error.hpp"

namespace katoptra {

// A browser says from where it was sent; what comes from pages of others, or under a name that is not this service's (a
// name of theirs that leads here), is refused; a link that a person follows is not. Programs say neither, and what they
// ask for is open to them.
struct Gate {
  static constexpr const char* kWhy = "asked by a page of another place, which this service does not answer";
  const std::string& host;
  int port = 0;

  bool refuses(const httplib::Request& q) const {
    if (!q.has_header("Sec-Fetch-Site") && !q.has_header("Origin")) return false;
    const std::string asked = q.get_header_value("Host"), origin = q.get_header_value("Origin"),
                      site = q.get_header_value("Sec-Fetch-Site"), own = fmt::format(":{}", port);
    const bool loopback = host == "127.0.0.1" || host == "localhost" || host == "::1";
    const bool known = asked == host + own || asked == "localhost" + own || asked == "127.0.0.1" + own ||
                       asked == "[::1]" + own || !loopback;
    if (!known || (!origin.empty() && origin != "http://" + asked)) return true;
    return !site.empty() && site != "same-origin" && site != "none" &&
           !(q.method == "GET" && q.get_header_value("Sec-Fetch-Mode") == "navigate");
  }
};

// Makes the server listen, at any free port for 0; the port it has. Io when it is taken: unlike the library's own
// choice, it is not shared with another service.
inline int take_port(httplib::Server& server, const std::string& host, int port, std::size_t threads) {
  server.set_tcp_nodelay(true);
  server.set_keep_alive_timeout(2);
  server.new_task_queue = [threads] { return new httplib::ThreadPool(threads); };
  server.set_socket_options([](socket_t sock) {
    const int yes = 1;
    ::setsockopt(sock, SOL_SOCKET, SO_REUSEADDR, &yes, sizeof yes);
  });
  const int taken = port == 0                                 ? server.bind_to_any_port(host.c_str())
                    : server.bind_to_port(host.c_str(), port) ? port
                                                              : -1;
  if (taken < 0)
    throw Error(ErrorCode::Io, "the port cannot be taken", fmt::format("{}:{}", host, port),
                "choose another with --port");
  return taken;
}

// Of a page: that it runs what it names and nothing else, and is not shown within another.
inline void send_page(httplib::Response& r, const std::string& html, const std::string& policy) {
  r.set_header("Content-Security-Policy", policy);
  r.set_header("X-Content-Type-Options", "nosniff");
  r.set_header("Referrer-Policy", "no-referrer");
  r.set_header("Cross-Origin-Resource-Policy", "same-origin");
  r.set_header("Vary", "Accept");
  r.set_content(html, "text/html; charset=utf-8");
}

}  // namespace katoptra

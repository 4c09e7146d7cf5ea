#include "view_service.hpp"

#include <cmath>
#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "katoptra/base/error.hpp"
#include "katoptra/base/units.hpp"

#include "gate.hpp"

namespace katoptra {

struct ViewService::Impl {
  using Request = httplib::Request;
  using Response = httplib::Response;

  Impl(SurfaceViewer v, ViewServiceOptions o) : viewer(std::move(v)), options(std::move(o)) {
    routes();
    server.set_logger([this](const Request& q, const Response& r) {
      if (options.log) options.log(fmt::format("{} {} {} {} B", q.method, q.target, r.status, r.body.size()));
    });
    server.set_payload_max_length(1024);
    // Two answers at a time are enough for one who looks.
    port = take_port(server, options.host, options.port, 3);
  }

  // Whole numbers alone.
  static std::int64_t number(const Request& q, const char* name) {
    const auto v = parse_number(q.get_param_value(name));
    if (!v || *v != std::floor(*v) || std::abs(*v) > 1e15)
      throw Error(ErrorCode::BadArgument, fmt::format("'{}' is no whole number", name), "question");
    return static_cast<std::int64_t>(*v);
  }
  static int level(const Request& q) {
    const std::int64_t v = number(q, "level");
    if (v < 0 || v > 100) throw Error(ErrorCode::BadArgument, "there is no such level", "question");
    return static_cast<int>(v);
  }
  static Window part(const Request& q) {
    return {number(q, "col"), number(q, "row"), number(q, "cols"), number(q, "rows")};
  }

  template <class Body>
  auto guarded(Body body) {
    return [this, body](const Request& q, Response& r) {
      const auto refuse = [&](int status, const std::string& what) {
        r.status = status;
        r.set_content(
            nlohmann::json{{"description", what}}.dump(-1, ' ', false, nlohmann::json::error_handler_t::replace),
            "application/json");
      };
      if (Gate{options.host, port}.refuses(q)) return refuse(403, Gate::kWhy);
      try {
        body(q, r);
      } catch (const Error& e) {
        refuse(e.code() == ErrorCode::TooLarge ? 413 : e.code() == ErrorCode::BadArgument ? 400 : 500, e.what());
      } catch (const std::exception& e) {
        refuse(500, e.what());
      }
    };
  }

  void routes() {
    server.Get("/", guarded([this](const Request&, Response& r) { send_page(r, viewer.html(), viewer.policy()); }));
    server.Get("/window", guarded([this](const Request& q, Response& r) {
                 if (const std::string why = options.stale ? options.stale() : ""; !why.empty())
                   throw Error(ErrorCode::Io, why, "view", "start it again");
                 r.set_content(viewer.window(level(q), part(q)), "application/json");
               }));
    server.Get("/points", guarded([this](const Request& q, Response& r) {
                 r.set_content(viewer.points(level(q), part(q)), "application/json");
               }));
  }

  SurfaceViewer viewer;
  ViewServiceOptions options;
  httplib::Server server;
  int port = -1;
};

ViewService::ViewService(SurfaceViewer viewer, ViewServiceOptions options)
    : impl_(std::make_unique<Impl>(std::move(viewer), std::move(options))) {}
ViewService::~ViewService() { stop(); }
std::string ViewService::address() const { return fmt::format("http://{}:{}/", impl_->options.host, impl_->port); }
void ViewService::run() { impl_->server.listen_after_bind(); }
void ViewService::stop() { impl_->server.stop(); }

}  // namespace katoptra

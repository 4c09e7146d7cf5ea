// The katoptra tool: verbs over the library. No computation here.
#include <atomic>
#include <csignal>
#include <cstdio>
#include <fmt/format.h>
#include <string_view>
#include <unistd.h>

#include "katoptra/base/error.hpp"
#include "katoptra/formats/probe.hpp"
#include "katoptra/version.hpp"

#include "common.hpp"

namespace {

// The first asks for an orderly end, and gives it ten seconds; the second is not a question.
void on_interrupt(int) {
  static std::atomic<bool> asked{false};
  if (asked.exchange(true)) ::_exit(130);
  katoptra::cli::progress().cancel();
  ::alarm(10);
}
void on_alarm(int) { ::_exit(130); }

int exit_status(katoptra::ErrorCode code) {
  using katoptra::ErrorCode;
  switch (code) {
    case ErrorCode::BadArgument:
      return 2;
    case ErrorCode::Io:
    case ErrorCode::Network:
      return 4;
    case ErrorCode::Cancelled:
      return 130;
    default:
      return 3;
  }
}

}  // namespace

int main(int argc, char** argv) {
  using namespace katoptra;
  // Not for people: the tool as the helper of itself.
  if (argc > 1 && std::string_view(argv[1]) == "probe-container") return run_probe(argc, argv);
  set_probe_helper("/proc/self/exe");
  std::signal(SIGINT, on_interrupt);
  std::signal(SIGTERM, on_interrupt);
  std::signal(SIGALRM, on_alarm);
  CLI::App app{"From a study area to a terrain surface that can be trusted, and to its products.", "katoptra"};
  app.set_version_flag("--version", std::string("katoptra ") + KATOPTRA_VERSION);
  app.require_subcommand(1);
  app.get_formatter()->column_width(34);
  int status = 0;
  cli::add_look(app, status);
  cli::add_find_and_fetch(app, status);
  cli::add_surface_verbs(app, status);
  cli::add_judging_verbs(app, status);
  cli::add_product_verbs(app, status);
  cli::add_point_verbs(app, status);
  cli::add_study_verbs(app, status);
  cli::add_order_and_serve(app, status);
  try {
    cli::name_hosts_of(argc, argv);
    app.parse(argc, argv);
    if (std::fflush(stdout) != 0) throw Error(ErrorCode::Io, "the output cannot be written", "stdout");
    return status;
  } catch (const CLI::CallForHelp& e) {
    return app.exit(e);
  } catch (const CLI::CallForVersion& e) {
    return app.exit(e);
  } catch (const CLI::ParseError& e) {
    fmt::print(stderr, "katoptra: {}; see katoptra --help\n", e.what());
    return 2;
  } catch (const Error& e) {
    fmt::print(stderr, "katoptra: {}\n", e.what());
    return exit_status(e.code());
  } catch (const std::bad_alloc&) {
    fmt::print(stderr, "katoptra: out of memory; give a smaller --memory or --area\n");
    return 4;
  } catch (const std::exception& e) {
    fmt::print(stderr, "katoptra: {}\n", e.what());
    return 4;
  }
}

// The page of a surface that is too large for one file, level by level: the page holds the surface by cells that are
// coarse enough, and asks for parts by finer ones, down to the surface's own, and for the points of a part.
//
//   SurfaceViewer v({.title = "Kessa Inlet", .surfaces = {{"ground", dem}}});
//   write_text_file("page.html", v.html());              // shown by a service, it asks for
//   std::string json = v.window(2, {0, 0, 512, 512});     // cells 4 times as wide as the surface's
//
// The page asks beside its own address: GET window?level=&col=&row=&cols=&rows= and points?level=...; `service/`
// answers. Safe to be asked from many threads. Cost: a window is read from overviews where the surface has them, else
// from its cells, of which no more than kMostCellsBelow are read for one answer.
#pragma once
#include <memory>
#include <string>

#include "katoptra/view/page.hpp"

namespace katoptra {

inline constexpr std::int64_t kMostWindowSide = 1280, kMostCellsBelow = std::int64_t{1} << 26;

class SurfaceViewer {
 public:
  // Reads the surface once, at the page's own cells: a power of two as wide as those of the surface. Errors as
  // surface_page.
  explicit SurfaceViewer(SurfacePage page);
  SurfaceViewer(SurfaceViewer&&) noexcept;
  ~SurfaceViewer();
  const std::string& html() const;
  const std::string& policy() const;  // Content-Security-Policy, for the header of the answer
  int level() const;                  // the page's own cells are 2^level as wide as the surface's

  // A part of the surface by cells 2^level as wide as its own: where it lies and its heights, as JSON. BadArgument
  // where there is no such part, TooLarge for more than kMostWindowSide cells a side and for what lies under more than
  // kMostCellsBelow.
  std::string window(int level, const Window& part) const;
  // The points on such a part; null where there are none.
  std::string points(int level, const Window& part) const;

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

}  // namespace katoptra

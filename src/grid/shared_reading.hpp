// One reading for several grids that are made of the same surface. They are made of `grid()`, which hands out what is
// held at the moment; what is not held it reads from the surface, so a value never depends on what is held.
//
//   SharedReading shared(dem);
//   const Grid a = slope(shared.grid()), b = hillshade(shared.grid());
//   shared.learn([](const Grid& g) { return slope(g); }, w);   // how far beyond their cells they look
//   shared.learn([](const Grid& g) { return hillshade(g); }, w);
//   const auto held = shared.hold(w, Planes::Values);
//   a.read(w), b.read(w);                           // the surface was read once
#pragma once
#include <functional>
#include <memory>
#include <mutex>
#include <shared_mutex>
#include <vector>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

class SharedReading {
 public:
  explicit SharedReading(const Grid& surface);
  const Grid& grid() const { return grid_; }

  // Makes a product of a surface that is level, lets it read the window and remembers how far it looked; reads no cell.
  // What a product looks up once and keeps is not counted.
  void learn(const std::function<Grid(const Grid&)>& make, const Window& w);

  // Keeps the window, and as much around it as was learnt, until the hold is gone. Any thread.
  class Hold;
  std::unique_ptr<Hold> hold(const Window& w, Planes planes);

 private:
  class Source;
  std::shared_ptr<Source> source_;
  Grid grid_;
};

class SharedReading::Hold {
 public:
  Hold(std::shared_ptr<Source> source, std::shared_ptr<const Block> block);
  ~Hold();
  Hold(const Hold&) = delete;
  Hold& operator=(const Hold&) = delete;

 private:
  std::shared_ptr<Source> source_;
  std::shared_ptr<const Block> block_;
};

}  // namespace katoptra

// A surface as triangles, few where it is even and many where it is not.
//
//   SurfaceMesh m = surface_mesh(dem, {.error = 0.1_m});
//
// Right-triangulated irregular network (Evans, Kirkpatrick & Townsend 2001): triangles are halved at the middle of
// their longest side until none of the cells in one lies farther from it than `error`, measured upright; halving one
// halves what it takes of its neighbours, so there are no cracks. Corners are centres of cells, with their heights.
// What is covered are the squares between four known cells that hang together by their sides; along voids and at the
// rim triangles are as small as cells. Of squares that meet at a corner alone one is left out, so that the border of
// the mesh is made of simple rings. The same triangles for every block size and thread count. Memory: some 13 bytes a
// cell, within the budget of RunOptions (TooLarge); bring larger surfaces to larger cells first.
#pragma once
#include <array>
#include <cstdint>
#include <vector>

#include "katoptra/grid/grid.hpp"

namespace katoptra {

struct MeshVertex {
  std::int32_t col = 0, row = 0;  // the cell whose centre it is
  float height = 0;               // in the unit of the grid
};

struct SurfaceMesh {
  Frame frame;
  std::vector<MeshVertex> vertices;
  std::vector<std::array<std::uint32_t, 3>> triangles;  // counter-clockwise seen from above
  // The same ground, covered with as few triangles as its border allows: heights mean nothing. Its border has the same
  // corners as that of `triangles`.
  std::vector<std::array<std::uint32_t, 3>> floor;
  // Sides of `triangles` at the border, each with the ground on its left.
  std::vector<std::array<std::uint32_t, 2>> border;
};

struct MeshOptions {
  Length error;  // zero: every cell
  RunOptions run = {};
};

// Empty where there is no square of four known cells. Refused for codes; BadArgument for an error below zero.
SurfaceMesh surface_mesh(const Grid& surface, const MeshOptions& options);

}  // namespace katoptra

// How the ground goes on between the cells, judged by how its differences grow from one cell to two: by 2^(2 order)
// where it is smooth, by 2^(2H) where it is as rough at every scale (self-affine, with Hurst exponent H; Mandelbrot
// 1982; of terrain Mark & Aronson 1984).
#pragma once
#include <optional>
#include <span>

#include "katoptra/grid/grid.hpp"

#include "grid/error_kernel.hpp"

namespace katoptra {

// The binary logarithm of how much larger the mean square of the differences of that order (1 to 3) is over two cells
// than over one, beyond what noise makes of both: the middle one of those around `cells` (columns and rows of `grid`).
// Nothing where the ground does not stand out of the noise. Reads a window around each.
std::optional<double> growth_of_differences(const Grid& grid, std::span<const Point> cells, int order,
                                            const ErrorKernel& errors);

// What a kernel leaves out between cells on such ground, in units of a fixed share of the differences of the order that
// it cannot follow (1 nearest, 2 bilinear, 3 cubic): errors of which 95 % lie within 1.96 times it. 1 where the growth
// is not known.
double left_out_on(int order, std::optional<double> growth);

}  // namespace katoptra

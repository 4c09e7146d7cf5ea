// What stands for many numbers when some of them are wrong.
#pragma once
#include <vector>

namespace katoptra {

double median_of(std::vector<double> v);
// The middle value, of an even number the upper one of two; `v` is not empty, and is in another order afterwards.
double upper_median_of(std::vector<double>& v);
// 1.4826 times the median absolute deviation: a standard deviation that a few outliers do not move.
double robust_deviation(const std::vector<double>& v, double median);
// Interpolated between neighbours in order; `sorted` rises.
double quantile_of(const std::vector<double>& sorted, double q);

}  // namespace katoptra

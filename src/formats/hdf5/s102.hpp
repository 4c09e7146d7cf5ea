// What reading and writing S-102 have in common.
#pragma once
#include "hdf5_file.hpp"

namespace katoptra::s102 {

// S100_VerticalAndSoundingDatum: those that depths are counted from.
struct Datum {
  int code;
  const char* name;
  bool known;  // HeightReference::parse knows it by that name
};
inline constexpr Datum kDatums[] = {{1, "mean low water springs", false},
                                    {2, "mean lower low water springs", false},
                                    {3, "MSL", true},
                                    {4, "lowest low water", false},
                                    {5, "mean low water", false},
                                    {6, "lowest low water springs", false},
                                    {12, "MLLW", true},
                                    {13, "low water", false},
                                    {16, "mean high water", false},
                                    {17, "mean high water springs", false},
                                    {21, "mean higher high water", false},
                                    {23, "LAT", true},
                                    {24, "local datum", false},
                                    {26, "mean water level", false},
                                    {30, "highest astronomical tide", false}};

// A plane of records with such a member. With the lock held.
bool has_member(const Id& plane, const char* member);

}  // namespace katoptra::s102

// Passes over the points of a cloud, of which each process that shares work makes a part.
#pragma once
#include <algorithm>
#include <cstddef>
#include <memory>
#include <utility>
#include <vector>

#include "katoptra/points/points.hpp"

#include "base/heaps.hpp"
#include "base/pool.hpp"
#include "base/shared_parts.hpp"

namespace katoptra {

// Parts of a cloud that are read one after the other, and told together.
class PartGroups {
 public:
  PartGroups(const PointCloud& cloud, PointFields fields)
      : cloud_(cloud),
        fields_(fields),
        size_(work_is_shared() ? std::clamp<std::size_t>(cloud.parts() / 256, 1, 16) : 1) {}
  std::size_t count() const { return (cloud_.parts() + size_ - 1) / size_; }
  // Runs of groups that lie beside one another are read by the same process in every pass, as long as all are as fast:
  // it has them at hand, and what is near them.
  static constexpr std::size_t kRow = 64;
  // `look(part, batch)`. Any thread.
  template <class Look>
  void read(std::size_t group, const Look& look) {
    PointBatch batch = batches_.take([] { return PointBatch(); });
    for (std::size_t i = group * size_; i < std::min(cloud_.parts(), (group + 1) * size_); ++i) {
      cloud_.read(i, fields_, batch);
      look(i, batch);
    }
    batches_.give(std::move(batch));
  }

 private:
  const PointCloud& cloud_;
  PointFields fields_;
  std::size_t size_;
  Pool<PointBatch> batches_;
};

// `look(batch, told)` adds to what is told of a group of parts (base/packed.hpp); `take(told)` gets it in every
// process, in the order of the parts.
template <class Told, class Look, class Take>
void share_points(const PointCloud& cloud, PointFields fields, const RunOptions& run, const Look& look,
                  const Take& take) {
  PartGroups groups(cloud, fields);
  share_parts<Told>(
      groups.count(), run,
      [&](std::size_t g) {
        Told told{};
        groups.read(g, [&](std::size_t, const PointBatch& b) { look(b, told); });
        return told;
      },
      [&](std::size_t, const Told& told) { take(told); }, {.row = PartGroups::kRow});
}

template <class T, class Told>
struct SortedGroup {
  typename Heaps<T>::Written written;
  std::vector<Told> told;
  template <class Fields>
  void fields(Fields& f) {
    f(written, told);
  }
};

// Points put into heaps, which are empty: `sort(part, batch, into)` fills a HeapBatch and gives what else is told of
// that part, which `take` gets in the order of the parts. The heaps are those of a folder that the processes have in
// common, if they share this work.
template <class T, class Told, class Sort, class Take>
void sort_points(const PointCloud& cloud, const RunOptions& run, Heaps<T>& heaps, const Sort& sort, const Take& take) {
  struct Part {
    HeapBatch<T> batch;
    Told told;
  };
  const bool is_shared = work_is_shared();
  if (is_shared) {
    PartGroups groups(cloud, PointFields::None);
    share_parts<SortedGroup<T, Told>>(
        groups.count(), run,
        [&](std::size_t g) {
          SortedGroup<T, Told> made;
          HeapBatch<T> sorted;
          groups.read(g, [&](std::size_t i, const PointBatch& b) {
            HeapBatch<T> part;
            made.told.push_back(sort(i, b, part));
            sorted.add(std::move(part));
          });
          made.written = heaps.write(sorted);
          return made;
        },
        [&](std::size_t, const SortedGroup<T, Told>& g) {
          if (heaps.is_shared()) heaps.add(g.written);
          for (const Told& t : g.told) take(t);
        },
        {.listens = !heaps.is_shared(), .row = PartGroups::kRow});
    if (heaps.is_shared()) return;
  }
  map_points(
      cloud, PointFields::None, run,
      [&](std::size_t i, PointBatch& b) -> std::shared_ptr<void> {
        auto made = std::make_shared<Part>();
        made->told = sort(i, b, made->batch);
        return made;
      },
      [&](std::shared_ptr<void> result) {
        const Part& made = *static_cast<const Part*>(result.get());
        heaps.add(made.batch);
        if (!is_shared) take(made.told);
      });
}

// The same where nothing else is told: `sort` gives nothing.
template <class T, class Sort>
void sort_points(const PointCloud& cloud, const RunOptions& run, Heaps<T>& heaps, const Sort& sort) {
  sort_points<T, char>(
      cloud, run, heaps,
      [&](std::size_t part, const PointBatch& b, HeapBatch<T>& into) {
        sort(part, b, into);
        return char{};
      },
      [](char) {});
}

}  // namespace katoptra

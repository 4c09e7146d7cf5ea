// The smallest cover. First what needs no search: an element that one set alone has takes that set, a set within
// another goes. What is left falls into parts that share no element; each is searched by branch and bound, with a
// greedy cover as the first bound.
#include <algorithm>
#include <bit>
#include <cstdint>
#include <limits>
#include <numeric>
#include <queue>
#include <utility>

#include "katoptra/catalogue/find.hpp"

namespace katoptra {
namespace {

using Numbers = std::vector<std::size_t>;

class Bits {
 public:
  explicit Bits(std::size_t n = 0) : words_((n + 63) / 64, 0) {}
  void set(std::size_t i) { words_[i / 64] |= std::uint64_t{1} << (i % 64); }
  bool has(std::size_t i) const { return words_[i / 64] >> (i % 64) & 1; }
  bool empty() const {
    return std::all_of(words_.begin(), words_.end(), [](std::uint64_t w) { return w == 0; });
  }
  std::size_t count() const {
    std::size_t n = 0;
    for (std::uint64_t w : words_) n += static_cast<std::size_t>(std::popcount(w));
    return n;
  }
  std::size_t count_and(const Bits& o) const {
    std::size_t n = 0;
    for (std::size_t i = 0; i < words_.size(); ++i)
      n += static_cast<std::size_t>(std::popcount(words_[i] & o.words_[i]));
    return n;
  }
  // All of this that is in `of` is in `o`, too.
  bool within(const Bits& o, const Bits& of) const {
    for (std::size_t i = 0; i < words_.size(); ++i)
      if (words_[i] & of.words_[i] & ~o.words_[i]) return false;
    return true;
  }
  void take_away(const Bits& o) {
    for (std::size_t i = 0; i < words_.size(); ++i) words_[i] &= ~o.words_[i];
  }
  std::size_t words() const { return words_.size(); }
  template <class Body>
  void each(const Body& body) const {
    for (std::size_t w = 0; w < words_.size(); ++w)
      for (std::uint64_t left = words_[w]; left; left &= left - 1)
        body(w * 64 + static_cast<std::size_t>(std::countr_zero(left)));
  }

 private:
  std::vector<std::uint64_t> words_;
};

// One part: numbers of sets and elements are its own.
class CoverSearch {
 public:
  CoverSearch(const std::vector<Numbers>& sets, std::size_t elements, long long budget)
      : elements_(elements), budget_(budget), having_(elements) {
    for (std::size_t s = 0; s < sets.size(); ++s) {
      Bits b(elements);
      for (std::size_t e : sets[s]) b.set(e);
      b.each([&](std::size_t e) { having_[e].push_back(s); });
      sets_.push_back(std::move(b));
    }
  }

  Numbers run() {
    Bits open(elements_);
    for (std::size_t e = 0; e < elements_; ++e)
      if (!having_[e].empty()) open.set(e);
    best_ = greedy(open);
    Numbers usable(sets_.size()), taken;
    std::iota(usable.begin(), usable.end(), std::size_t{0});
    branch(open, usable, taken);
    return best_;
  }

 private:
  Numbers greedy(Bits open) const {
    Numbers out;
    const Bits wanted = open;
    while (!open.empty()) {
      std::size_t best = 0, most = 0;
      for (std::size_t s = 0; s < sets_.size(); ++s)
        if (const std::size_t n = sets_[s].count_and(open); n > most) most = n, best = s;
      out.push_back(best);
      open.take_away(sets_[best]);
    }
    // What later choices made needless goes, the least preferred first.
    Numbers order = out;
    std::sort(order.rbegin(), order.rend());
    for (std::size_t s : order) {
      Bits left = wanted;
      for (std::size_t o : out)
        if (o != s) left.take_away(sets_[o]);
      if (left.empty()) out.erase(std::find(out.begin(), out.end(), s));
    }
    return out;
  }

  // Without the sets of which nothing is open, or of whose open elements another has all. Only a set that shares the
  // rarest of them can have all.
  Numbers reduced(const Bits& open, const Numbers& usable) const {
    std::vector<char> there(sets_.size(), 0);
    for (std::size_t s : usable) there[s] = 1;
    Numbers out;
    for (std::size_t s : usable) {
      const Numbers* rarest = nullptr;
      sets_[s].each([&](std::size_t e) {
        if (open.has(e) && (!rarest || having_[e].size() < rarest->size())) rarest = &having_[e];
      });
      if (!rarest) {
        there[s] = 0;
        continue;
      }
      const bool inside = std::any_of(rarest->begin(), rarest->end(), [&](std::size_t o) {
        if (o == s || !there[o] || !sets_[s].within(sets_[o], open)) return false;
        return o < s || !sets_[o].within(sets_[s], open);  // of two that are the same, the first stays
      });
      if (inside)
        there[s] = 0;
      else
        out.push_back(s);
    }
    return out;
  }

  void branch(Bits open, Numbers usable, Numbers& taken) {
    const std::size_t before = taken.size();
    Numbers choice;
    while (true) {
      if (open.empty()) {
        if (taken.size() < best_.size()) best_ = taken;
        break;
      }
      budget_ -= 1 + static_cast<long long>(usable.size() * open.words() / 16);
      if (budget_ < 0) break;
      usable = reduced(open, usable);
      // Every set that is left takes away at most `most` elements.
      std::size_t most = 0;
      for (std::size_t s : usable) most = std::max(most, sets_[s].count_and(open));
      if (most == 0 || taken.size() + (open.count() + most - 1) / most >= best_.size()) break;
      std::vector<char> there(sets_.size(), 0);
      for (std::size_t s : usable) there[s] = 1;
      // The element with the fewest sets decides; those that have a single one need no decision.
      choice.clear();
      bool dead = false;
      Numbers forced;
      open.each([&](std::size_t e) {
        Numbers mine;
        for (std::size_t s : having_[e])
          if (there[s]) mine.push_back(s);
        if (mine.empty()) dead = true;
        if (mine.size() == 1) forced.push_back(mine[0]);
        if (choice.empty() || mine.size() < choice.size()) choice = std::move(mine);
      });
      if (dead) break;
      if (forced.empty()) {
        decide(open, usable, taken, choice);
        break;
      }
      std::sort(forced.begin(), forced.end());
      forced.erase(std::unique(forced.begin(), forced.end()), forced.end());
      for (std::size_t s : forced) {
        taken.push_back(s);
        open.take_away(sets_[s]);
      }
    }
    taken.resize(before);
  }

  void decide(const Bits& open, Numbers usable, Numbers& taken, Numbers& choice) {
    std::stable_sort(choice.begin(), choice.end(),
                     [&](std::size_t a, std::size_t b) { return sets_[a].count_and(open) > sets_[b].count_and(open); });
    for (std::size_t s : choice) {
      Bits rest = open;
      rest.take_away(sets_[s]);
      taken.push_back(s);
      branch(std::move(rest), usable, taken);
      taken.pop_back();
      // Covers with this set have all been looked at.
      std::erase(usable, s);
    }
  }

  std::size_t elements_;
  long long budget_;
  std::vector<Bits> sets_;
  std::vector<Numbers> having_;  // sets by element
  Numbers best_;
};

// Sets that share elements, directly or through others, are one part.
std::vector<Numbers> parts_of(const std::vector<Numbers>& sets, std::size_t elements) {
  Numbers root(sets.size());
  std::iota(root.begin(), root.end(), std::size_t{0});
  auto find = [&](std::size_t s) {
    while (root[s] != s) s = root[s] = root[root[s]];
    return s;
  };
  constexpr std::size_t kNone = std::numeric_limits<std::size_t>::max();
  Numbers first(elements, kNone);
  for (std::size_t s = 0; s < sets.size(); ++s)
    for (std::size_t e : sets[s]) {
      if (first[e] == kNone) first[e] = s;
      const std::size_t a = find(first[e]), b = find(s);
      root[std::max(a, b)] = std::min(a, b);
    }
  std::vector<Numbers> by_root(sets.size()), out;
  for (std::size_t s = 0; s < sets.size(); ++s)
    if (!sets[s].empty()) by_root[find(s)].push_back(s);
  for (Numbers& p : by_root)
    if (!p.empty()) out.push_back(std::move(p));
  return out;
}

// The greedy cover of all sets. Gains only fall, so a set is looked at again only when it would be taken.
Numbers greedy_cover(const std::vector<Numbers>& sets, std::size_t elements) {
  std::vector<char> done(elements, 0);
  auto gain = [&](std::size_t s) {
    std::vector<std::size_t> open;
    for (std::size_t e : sets[s])
      if (!done[e]) open.push_back(e);
    std::sort(open.begin(), open.end());
    return static_cast<std::size_t>(std::unique(open.begin(), open.end()) - open.begin());
  };
  using Offer = std::pair<std::size_t, std::size_t>;  // gain; number from behind, so that earlier sets win
  std::priority_queue<Offer> offers;
  for (std::size_t s = 0; s < sets.size(); ++s) offers.emplace(gain(s), sets.size() - s);
  Numbers out;
  while (!offers.empty()) {
    const auto [promised, number] = offers.top();
    offers.pop();
    const std::size_t s = sets.size() - number, now = gain(s);
    if (now == 0) continue;
    if (now < promised) {
      offers.emplace(now, number);
      continue;
    }
    out.push_back(s);
    for (std::size_t e : sets[s]) done[e] = 1;
  }
  std::sort(out.begin(), out.end());
  return out;
}

}  // namespace

std::vector<std::size_t> smallest_cover(const std::vector<std::vector<std::size_t>>& given, std::size_t elements,
                                        int steps) {
  // Sets that alone have an element are taken at once, and what they have is no longer asked for. This leaves little of
  // a plain sheet line, however large.
  std::vector<Numbers> having(elements);
  for (std::size_t s = 0; s < given.size(); ++s)
    for (std::size_t e : given[s])
      if (having[e].empty() || having[e].back() != s) having[e].push_back(s);
  std::vector<char> taken(given.size(), 0), done(elements, 0);
  for (const Numbers& h : having)
    if (h.size() == 1) taken[h[0]] = 1;
  for (std::size_t s = 0; s < given.size(); ++s)
    if (taken[s])
      for (std::size_t e : given[s]) done[e] = 1;
  std::vector<Numbers> sets(given.size());
  for (std::size_t s = 0; s < given.size(); ++s)
    for (std::size_t e : given[s])
      if (!done[e]) sets[s].push_back(e);
  for (const Numbers& part : parts_of(sets, elements)) {
    Numbers local(elements, 0), numbers;
    std::vector<Numbers> own;
    std::vector<char> known(elements, 0);
    for (std::size_t s : part) {
      own.emplace_back();
      for (std::size_t e : sets[s]) {
        if (!known[e]) known[e] = 1, local[e] = numbers.size(), numbers.push_back(e);
        own.back().push_back(local[e]);
      }
    }
    for (std::size_t s : CoverSearch(own, numbers.size(), steps).run()) taken[part[s]] = 1;
  }
  Numbers out;
  for (std::size_t s = 0; s < given.size(); ++s)
    if (taken[s]) out.push_back(s);
  // Where the search had to stop early, taking what is needed first is not always better than being greedy.
  const Numbers greedy = greedy_cover(given, elements);
  return greedy.size() < out.size() ? greedy : out;
}

}  // namespace katoptra

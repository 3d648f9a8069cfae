#include "core/measure/overview.hpp"

#include <algorithm>
#include <cmath>
#include <istream>
#include <ostream>

namespace heathmist {

namespace {

struct Gathered {
  OutlineBin bin;
  int64_t count = 0;
  void add(const OutlineBin& other) {
    bin.low = std::min(bin.low, other.low);
    bin.high = std::max(bin.high, other.high);
    bin.mean_square += other.mean_square;
    ++count;
  }
  OutlineBin mean() const {
    OutlineBin result = bin;
    if (count > 0) result.mean_square /= float(count);
    return result;
  }
};

std::vector<OutlineBin> coarser(const std::vector<OutlineBin>& fine) {
  std::vector<OutlineBin> bins;
  for (size_t at = 0; at < fine.size(); at += Overview::level_step) {
    Gathered sum;
    for (size_t n = at; n < std::min(fine.size(), at + Overview::level_step); ++n) sum.add(fine[n]);
    bins.push_back(sum.mean());
  }
  return bins;
}

}  // namespace

Overview::Overview(int64_t frames, std::vector<OutlineBin> bins) : frames_(frames) {
  levels_.push_back(std::move(bins));
  while (levels_.back().size() > size_t(level_step)) levels_.push_back(coarser(levels_.back()));
}

size_t Overview::bytes() const {
  size_t bytes = 0;
  for (const auto& level : levels_) bytes += level.size() * sizeof(OutlineBin);
  return bytes;
}

std::vector<OutlineBin> Overview::columns(double first, double frames, int count) const {
  std::vector<OutlineBin> result(size_t(std::max(count, 0)));
  if (empty() || count <= 0 || frames <= 0) return result;
  const double per_column = frames / count;
  size_t level = 0;
  double width = double(bin_frames);
  while (level + 1 < levels_.size() && width * level_step <= per_column) {
    ++level;
    width *= level_step;
  }
  const auto& bins = levels_[level];
  for (int c = 0; c < count; ++c) {
    const double from = (first + c * per_column) / width, to = (first + (c + 1) * per_column) / width;
    const auto begin = std::max<int64_t>(0, int64_t(std::floor(from)));
    const auto end = std::min<int64_t>(int64_t(bins.size()), std::max<int64_t>(int64_t(std::ceil(to)), begin + 1));
    Gathered sum;
    for (int64_t n = begin; n < end; ++n) sum.add(bins[size_t(n)]);
    result[size_t(c)] = sum.mean();
  }
  return result;
}

void Overview::write(std::ostream& out) const {
  const int64_t head[] = {frames_, empty() ? 0 : int64_t(finest().size())};
  out.write(reinterpret_cast<const char*>(head), sizeof head);
  if (!empty())
    out.write(reinterpret_cast<const char*>(finest().data()), std::streamsize(finest().size() * sizeof(OutlineBin)));
}

Overview Overview::read(std::istream& in) {
  int64_t head[2] = {};
  in.read(reinterpret_cast<char*>(head), sizeof head);
  if (!in || head[1] <= 0 || head[0] <= 0 || head[1] != (head[0] + bin_frames - 1) / bin_frames) return {};
  std::vector<OutlineBin> bins(size_t(head[1]), OutlineBin{});
  in.read(reinterpret_cast<char*>(bins.data()), std::streamsize(bins.size() * sizeof(OutlineBin)));
  return in ? Overview(head[0], std::move(bins)) : Overview{};
}

std::vector<OutlineBin> outline_columns(const Planar& block, int64_t begin, double first, double frames, int count) {
  std::vector<OutlineBin> result(size_t(std::max(count, 0)));
  for (int c = 0; c < count; ++c) {
    const auto from = int64_t(first - double(begin) + frames * c / count);
    const auto to =
        std::min(block.frames(), std::max(from + 1, int64_t(first - double(begin) + frames * (c + 1) / count) + 1));
    Gathered sum;
    for (int ch = 0; ch < block.channels(); ++ch)
      for (int64_t n = from; n < to; ++n) {
        const auto x = float(block.channel(ch)[size_t(n)]);
        sum.add({x, x, x * x});
      }
    result[size_t(c)] = sum.mean();
  }
  return result;
}

}  // namespace heathmist

#include "core/compare/causes/view.hpp"

#include <algorithm>
#include <functional>

#include "core/compare/causes/response.hpp"

namespace heathmist::causes {

namespace {

void bend(Planar& samples, const std::function<double(double)>& curve) {
  for (int p = 0; p < samples.channels(); ++p)
    for (double& x : samples.channel(p)) x = curve(x);
}

void take_filter_off(Excerpt& e, const Response& filter, const Planar& before) {
  Planar after = before;
  run(filter, after);
  for (int p = 0; p < e.pairs(); ++p)
    std::ranges::transform(e.ret.channel(p), after.channel(p), e.ret.channel(p).begin(), std::minus<>());
  run(inverse(filter), e.ret);
  for (int p = 0; p < e.pairs(); ++p)
    std::ranges::transform(e.ret.channel(p), before.channel(p), e.ret.channel(p).begin(), std::plus<>());
}

void take_gains_off(Excerpt& e, const Found& last) {
  constexpr double least = 1e-3;
  Planar gains(e.pairs(), e.frames());
  for (int p = 0; p < e.pairs(); ++p) std::ranges::fill(gains.channel(p), 1.0);
  last.take_out(e, gains);
  for (int p = 0; p < e.pairs(); ++p)
    for (size_t n = 0; n < size_t(e.frames()); ++n) e.ret.channel(p)[n] /= std::max(least, gains.channel(p)[n]);
}

}  // namespace

View::View(const Excerpt& excerpt, Attempts& attempts, std::vector<Kept> causes)
    : excerpt_(excerpt), attempts_(attempts), causes_(std::move(causes)) {
  for (const Kept& k : causes_) before_.push_back(k.found);
}

std::pair<double, double> View::left() const {
  return attempts_.left(before_, [&] {
    return std::pair{power_left(excerpt_, model()), power_left(excerpt_, model(), true)};
  });
}

const Model& View::model() const {
  std::call_once(made_, [this] { make(); });
  return model_;
}

void View::make() const {
  model_ = made_with(causes_);
  std::vector<Kept> others;
  for (const Kept& k : causes_)
    if (k.of->stands != Stands::beside_it) others.push_back(k);
  if (others.size() == causes_.size()) return;
  dry_ = excerpt_;
  dry_model_ = made_with(others);
  for (int p = 0; p < excerpt_.pairs(); ++p) {  // what they add where nothing is muted
    const auto with = model_.channel(p), without = dry_model_.channel(p), ret = dry_->ret.channel(p);
    for (size_t n = 0; n < ret.size(); ++n) ret[n] -= with[n] - without[n];
  }
}

Model View::made_with(const std::vector<Kept>& causes) const {
  Model made = model_of(excerpt_, causes, attempts_);
  made.moved =
      std::ranges::any_of(causes, [](const Kept& k) { return k.found->follows || k.of == &named("distortion"); });
  return made;
}

std::optional<Excerpt> undone(Excerpt e, const Found& last, const Planar& before) {
  if (last.runs)
    take_filter_off(e, *last.runs, before);
  else if (last.bends_back)
    bend(e.ret, last.bends_back);
  else if (last.cause.code == "distortion")
    return {};  // some levels came back as one
  else
    take_gains_off(e, last);
  return e;
}

}  // namespace heathmist::causes

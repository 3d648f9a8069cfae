#include "core/bench/put_aside.hpp"

#include <algorithm>

namespace heathmist {

namespace {

bool is_of(const PutAside& aside, const Finding& f) {
  return aside.code == f.code && aside.text == f.text && aside.detail == f.detail;
}

}  // namespace

const PutAside* aside_of(const Trial& trial, const Finding& finding) {
  const auto at =
      std::find_if(trial.aside.begin(), trial.aside.end(), [&](const PutAside& a) { return is_of(a, finding); });
  return at == trial.aside.end() ? nullptr : &*at;
}

void put_aside(Trial& trial, const Finding& finding, const std::string& reason) {
  bring_back(trial, finding);
  trial.aside.push_back({finding.code, finding.text, finding.detail, reason});
}

void bring_back(Trial& trial, const Finding& finding) {
  std::erase_if(trial.aside, [&](const PutAside& a) { return is_of(a, finding); });
}

}  // namespace heathmist

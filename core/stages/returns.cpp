#include "core/stages/returns.hpp"

#include <fmt/format.h>
#include <samplerate.h>
#include <soxr.h>

#include <algorithm>

extern "C" {
#include <libavcodec/avcodec.h>
#include <libswresample/swresample.h>
}

#include "core/audio/fingerprint.hpp"

namespace heathmist {

namespace {

/// Stages that take their time: what they give is kept.
bool is_slow(const Stage& stage) {
  return stage.type == "codec" || stage.type == "external" || stage.type == "level" || stage.type == "convolution";
}

size_t bytes_of(const Clip& clip) {
  const auto& f = clip.format();
  return size_t(f.frames) * size_t(f.channels) * sizeof(double);
}

/// The chain without what is off: in rounds as it stands, otherwise cut after every slow stage.
std::vector<Chain> pieces_of(const Chain& chain) {
  Chain on{{}, {}, chain.rounds};
  for (const Stage& s : chain.stages)
    if (s.on) on.stages.push_back(s);
  if (on.rounds != 1) return {on};
  std::vector<Chain> pieces;
  bool open = false;
  for (const Stage& s : on.stages) {
    if (!open) pieces.emplace_back();
    pieces.back().stages.push_back(s);
    open = !is_slow(s);
  }
  return pieces;
}

/// The versions of those that encode and convert: another one may make something else.
const std::string& makers() {
  static const std::string all = fmt::format("{} {} {} {} {}", avcodec_version(), avcodec_configuration(),
                                             swresample_version(), soxr_version(), src_get_version());
  return all;
}

}  // namespace

std::string chain_fingerprint(const Chain& chain) {
  Json json = Json::array();
  json.push_back(makers());
  for (const Stage& s : chain.stages) {
    if (!s.on) continue;
    Json stage{{"type", s.type}, {"values", s.values}};
    const StageType* type = stage_type(s.type);
    for (size_t n = 0; type && n < type->parameters.size(); ++n) {
      const Parameter& p = type->parameters[n];
      if (p.kind == Parameter::Kind::file && p.key != "keep" && s.values.contains(p.key) && s.values[p.key].is_string())
        stage["content"].push_back(fingerprint(s.values[p.key].get<std::string>()));
    }
    json.push_back(stage);
  }
  uint64_t hash = 1469598103934665603ULL;  // FNV-1a
  for (const char c : text_of(json, -1) + fmt::format("x{}", chain.rounds))
    hash = (hash ^ uint8_t(c)) * 1099511628211ULL;
  return fmt::format("c{:016x}", hash);
}

Passed Returns::make(const std::shared_ptr<const Clip>& master, const std::string& master_fingerprint,
                     const Chain& chain, const Job& job, const Grant& grant) {
  check(chain);
  Passed so_far{master, {}};
  Chain front{{}, {}, chain.rounds};
  const auto pieces = pieces_of(chain);
  for (size_t n = 0; n < pieces.size(); ++n) {
    front.stages.insert(front.stages.end(), pieces[n].stages.begin(), pieces[n].stages.end());
    // what was made while something was disarmed is not what is made once it is armed
    const auto key_now = [&](const std::string& print) {
      return fmt::format("{}{}-{}", print, chain_fingerprint(front), disarmed_stages(front, grant).size());
    };
    const std::string key = key_now(master_fingerprint);
    if (const auto before = kept_.find(key)) {
      so_far = *before;
      continue;
    }
    Passed made =
        pass(so_far.ret, pieces[n], job.part(double(n) / double(pieces.size()), double(n + 1) / double(pieces.size())),
             {grant, false, front.stages.size() - pieces[n].stages.size() + 1});
    stages_run_ += int64_t(pieces[n].stages.size());
    so_far.ret = made.ret;
    so_far.stages.insert(so_far.stages.end(), made.stages.begin(), made.stages.end());
    if (key_now(fingerprint(master->path())) == key)  // else a file changed while it was read
      kept_.keep(key, so_far, bytes_of(*so_far.ret));
  }
  return so_far;
}

}  // namespace heathmist

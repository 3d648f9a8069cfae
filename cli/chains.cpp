// The verbs about chains: stages, pass.
#include <fmt/format.h>

#include "cli/verbs.hpp"
#include "core/stages/chain.hpp"

namespace heathmist::cli {

namespace {

template <class T>
Json or_null(const std::optional<T>& value) {
  return value ? Json(*value) : Json(nullptr);
}

std::string range_of(const Parameter& p) {
  switch (p.kind) {
    case Parameter::Kind::number:
    case Parameter::Kind::whole:
      return fmt::format("{:g} to {:g} {}", p.low, p.high, p.unit);
    case Parameter::Kind::choice:
      return fmt::format("{}", fmt::join(p.choices, ", "));
    case Parameter::Kind::flag:
      return "true, false";
    default:
      return p.kind == Parameter::Kind::file ? "a file" : "text";
  }
}

}  // namespace

void stages(bool json) {
  if (json) {
    fmt::print("{}\n", stages_json().dump(2));
    return;
  }
  for (const StageType& t : stage_types()) {
    fmt::print("{}: {}\n", t.type, t.what);
    for (const Parameter& p : t.parameters)
      fmt::print("  {:<24} {} [{}], {}\n", p.key, range_of(p), p.initial.dump(), p.what);
  }
}

void pass(const std::string& master, const std::string& chain_file, const std::string& out, bool json) {
  const Chain chain = load_chain(chain_file);
  if (!out.ends_with(".wav") && !out.ends_with(".flac"))
    throw std::invalid_argument(fmt::format("-o writes a .wav or .flac file, not '{}'", out));
  const Job job = watched("pass");
  Passed passed;
  try {
    passed = heathmist::pass(Clip::open(master, job.part(0, 0.1)), chain, job.part(0.1, 0.95));
  } catch (const ChainError& error) {
    throw InputError(chain_file, error.what());
  }
  write_return(passed, chain, out, job.part(0.95, 1));
  const auto& f = passed.ret->format();
  if (!json) {
    fmt::print("{}: {} frames at {} Hz through {}\n", out, f.frames, f.sample_rate_hz, words_of(chain));
    return;
  }
  Json list = Json::array();
  for (const StageReport& s : passed.stages)
    list.push_back({{"type", s.type},
                    {"encoded_bytes", or_null(s.encoded_bytes)},
                    {"bit_rate_bps", or_null(s.bit_rate_bps)},
                    {"delay_samples", or_null(s.delay_samples)},
                    {"note", s.note}});
  fmt::print(
      "{}\n",
      Json{{"output", out}, {"frames", f.frames}, {"sample_rate_hz", f.sample_rate_hz}, {"stages", list}}.dump(2));
}

}  // namespace heathmist::cli

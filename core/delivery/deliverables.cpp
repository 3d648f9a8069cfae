#include "core/delivery/deliverables.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "core/compare/json.hpp"
#include "core/compare/null.hpp"
#include "core/delivery/pairing.hpp"
#include "core/delivery/sheet.hpp"
#include "core/delivery/version_share.hpp"
#include "core/printable.hpp"

namespace heathmist {

namespace {

constexpr double none_db = -300, same_db = -120;
constexpr double of_it = 0.5;   // of what two versions differ by is in a file: it was made from the other one
constexpr double unlikely = 6;  // times what chance gives such a share

bool fits(const ClipFormat& f, const Rules& rules) {
  const auto in = [](const auto& allowed, const auto& value) { return allowed.empty() || allowed.count(value); };
  return in(rules.sample_rates_hz, f.sample_rate_hz) && in(rules.channels, f.channels) && in(rules.codecs, f.codec) &&
         (rules.container_bits.empty() || (f.container_bits && rules.container_bits.count(*f.container_bits)));
}

/// A clip against the master: the residual's level, and the residual itself where the two belong together.
struct Residual {
  double relative_db = 0;
  Kind kind = Kind::unrelated;
  std::shared_ptr<const Clip> master, clip;  ///< both at the master's rate
};

Residual residual_of(std::shared_ptr<const Clip> master, std::shared_ptr<const Clip> file, const Job& job) {
  const auto pair = comparable(master, file, job.part(0, 0.3));
  const auto report = null_test(*master, *file, pair, {}, job.part(0.3, 1));
  if (!report.fit.trusted) return {};
  return {std::max(none_db, report.residual_relative_db().value_or(none_db)), report.kind, pair.master,
          residual_clip(pair, report.fit)};
}

/// A file, the master that it sounds like, and what it is.
struct Found {
  std::filesystem::path file;
  std::shared_ptr<const Clip> clip;
  size_t master = 0;
};

/// What a delivery may do to a master without being anything else than it.
bool is_conversion(Kind kind) {
  return kind == Kind::identical || kind == Kind::shifted || kind == Kind::level || kind == Kind::word_length ||
         kind == Kind::converted;
}

void judge(Deliverable& d, const Found& found, const MasterVersions& master, const Rules& rules, const Job& job) {
  const auto clip = Clip::open(master.now);
  const Residual own = residual_of(clip, found.clip, job.part(0, 0.3));
  const double now = own.relative_db;
  if (now > none_db) d.residual_relative_db = now;
  double most = of_it;
  for (size_t v = 0; own.clip && v < master.earlier.size(); ++v) {
    // over the band that the file has
    const int rate_hz = std::min(clip->format().sample_rate_hz, found.clip->format().sample_rate_hz);
    const auto earlier = Clip::at_rate(Clip::open(master.earlier[v]), rate_hz, job.part(0.3, 0.4));
    const Residual between = residual_of(clip, earlier, job.part(0.4, 0.5));
    if (!between.clip || between.relative_db <= same_db) continue;
    const VersionShare in = version_share(*own.master, *own.clip, *between.clip, job.part(0.5, 0.6));
    if (in.share > most && in.share > unlikely * in.error) most = in.share, d.version = v;
  }
  d.faults = check_file(found.file, rules, job.part(0.6, 1)).faults;
  d.state = d.version                                                 ? Deliverable::State::older
            : !found.clip->format().lossy && !is_conversion(own.kind) ? Deliverable::State::another
            : !d.faults.empty()                                       ? Deliverable::State::faulty
                                                                      : Deliverable::State::present;
}

/// How good a find is: a present one before a faulty one, an older one last.
int rank(const Deliverable& d) { return int(d.state); }

}  // namespace

const char* name_of(Deliverable::State state) {
  constexpr const char* names[] = {"present", "faulty", "older", "another", "missing"};
  return names[int(state)];
}

size_t Deliverables::missing() const {
  return size_t(std::count_if(wanted.begin(), wanted.end(),
                              [](const Deliverable& d) { return d.state == Deliverable::State::missing; }));
}

bool Deliverables::complete() const {
  return std::all_of(wanted.begin(), wanted.end(),
                     [](const Deliverable& d) { return d.state == Deliverable::State::present; });
}

Deliverables find_deliverables(const DeliveryPlan& plan, const std::vector<MasterVersions>& masters,
                               const std::vector<std::filesystem::path>& files, const Job& job) {
  Deliverables all;
  for (size_t m = 0; m < masters.size(); ++m)
    for (size_t w = 0; w < plan.size(); ++w) all.wanted.push_back({m, w});
  std::vector<AcousticPrint> of_masters, of_files;
  for (const MasterVersions& m : masters) of_masters.push_back(acoustic_print_of(m.now, job));
  std::vector<std::filesystem::path> heard;
  for (const auto& file : files) {
    job.check();
    try {
      of_files.push_back(acoustic_print_of(file));
      heard.push_back(file);
    } catch (const InputError& error) {
      all.aside.push_back({file, error.what()});
    }
  }
  std::vector<std::filesystem::path> now;
  for (const MasterVersions& m : masters) now.push_back(m.now);
  Pairing pairing = pair_by_sound(of_masters, of_files);
  leave_other_takes(pairing, now, heard);
  for (const size_t n : pairing.returns_left) all.aside.push_back({heard[n], "no master sounds like it"});
  for (size_t n = 0; n < pairing.pairs.size(); ++n) {
    const auto& pair = pairing.pairs[n];
    const Job part = job.part(double(n) / double(pairing.pairs.size()), double(n + 1) / double(pairing.pairs.size()));
    const Found found{heard[pair.ret], Clip::open(heard[pair.ret], part.part(0, 0.2)), pair.master};
    bool is_any = false;
    for (Deliverable& place : all.wanted) {
      if (place.master != found.master || !fits(found.clip->format(), plan[place.wanted])) continue;
      is_any = true;
      Deliverable d{place.master, place.wanted};
      d.file = found.file;
      judge(d, found, masters[d.master], plan[d.wanted], part.part(0.2, 1));
      if (rank(d) < rank(place)) std::swap(d, place);
      if (d.file)
        all.aside.push_back({*d.file, fmt::format("{} is there already, as {}", plan[place.wanted].name,
                                                  printable(place.file->filename()))});
    }
    const auto& f = found.clip->format();
    if (!is_any)
      all.aside.push_back(
          {found.file, fmt::format("the plan has no {} at {} Hz{}", f.codec, f.sample_rate_hz,
                                   f.container_bits ? fmt::format(" and {} bit", *f.container_bits) : "")});
  }
  return all;
}

Json deliverable_json(const Deliverable& d, const DeliveryPlan& plan, const std::vector<MasterVersions>& masters) {
  const MasterVersions& master = masters[d.master];
  return {{"master", master.now.string()},
          {"deliverable", plan[d.wanted].name},
          {"state", name_of(d.state)},
          {"file", d.file ? Json(d.file->string()) : Json(nullptr)},
          {"made_from", d.version ? Json(master.earlier[*d.version].string()) : Json(nullptr)},
          {"residual_relative_db", number_or_null(d.residual_relative_db)},
          {"faults", faults_json(d.faults)}};
}

}  // namespace heathmist

#include "core/delivery/deliverables.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>

#include "core/compare/json.hpp"
#include "core/compare/null.hpp"
#include "core/delivery/pairing.hpp"
#include "core/delivery/residual_level.hpp"
#include "core/delivery/sheet.hpp"
#include "core/delivery/version_share.hpp"
#include "core/printable.hpp"

namespace heathmist {

namespace {

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
  return {residual_level_db(report), report.kind, pair.master, residual_clip(pair, report.fit)};
}

/// What a delivery may do to a master without being anything else than it.
bool is_conversion(Kind kind) {
  return kind == Kind::identical || kind == Kind::shifted || kind == Kind::level || kind == Kind::word_length ||
         kind == Kind::converted;
}

/// What a file is, whichever deliverable it may be.
struct Judged {
  double residual_db = 0;
  Kind kind = Kind::unrelated;
  std::optional<size_t> version{};  ///< the earlier one that it was made from
};

/// What a master's earlier versions differ by from it, each over the band of a rate: worked out once for all files.
class Differences {
 public:
  explicit Differences(const MasterVersions& master) : master_(master) {}
  const MasterVersions& master() const { return master_; }
  /// Without a clip where the two are the same, or do not belong together.
  const Residual& of(size_t version, int rate_hz, const Job& job) {
    const auto [at, is_new] = known_.try_emplace({version, rate_hz});
    if (!is_new) return at->second;
    const auto now = Clip::open(master_.now, job.part(0, 0.2)), earlier = Clip::open(master_.earlier[version]);
    const int rate = std::min(now->format().sample_rate_hz, rate_hz);
    at->second = residual_of(now, Clip::at_rate(earlier, rate, job.part(0.2, 0.4)), job.part(0.4, 1));
    if (at->second.relative_db <= identical_db) at->second.clip = nullptr;
    return at->second;
  }

 private:
  const MasterVersions& master_;
  std::map<std::pair<size_t, int>, Residual> known_;
};

Judged judge(std::shared_ptr<const Clip> file, Differences& differences, const Job& job) {
  const MasterVersions& master = differences.master();
  const Residual own = residual_of(Clip::open(master.now), file, job.part(0, 0.5));
  Judged judged{own.relative_db, own.kind};
  double most = of_it;
  for (size_t v = 0; own.clip && v < master.earlier.size(); ++v) {
    const Residual& between = differences.of(v, file->format().sample_rate_hz, job.part(0.5, 0.8));
    if (!between.clip) continue;
    const VersionShare in = version_share(*own.master, *own.clip, *between.clip, job.part(0.8, 1));
    if (in.share > most && in.share > unlikely * in.error) most = in.share, judged.version = v;
  }
  return judged;
}

Deliverable deliverable_of(const Deliverable& place, const Clip& clip, const Judged& judged, const Rules& rules,
                           const Job& job) {
  Deliverable d{place.master, place.wanted};
  d.file = clip.path(), d.version = judged.version;
  if (judged.residual_db > nothing_left_db) d.residual_relative_db = judged.residual_db;
  d.faults = check_file(clip.path(), rules, job).faults;
  d.state = d.version                                             ? Deliverable::State::older
            : !clip.format().lossy && !is_conversion(judged.kind) ? Deliverable::State::another
            : !d.faults.empty()                                   ? Deliverable::State::faulty
                                                                  : Deliverable::State::present;
  return d;
}

/// The prints of those that can be read, and which these are; of the others `refused` is told.
struct Heard {
  std::vector<std::filesystem::path> files;
  std::vector<AcousticPrint> prints;
};

Heard hear(const std::vector<std::filesystem::path>& files, std::vector<Deliverables::Aside>& unread, const Job& job) {
  Heard heard;
  for (size_t n = 0; n < files.size(); ++n) try {
      heard.prints.push_back(acoustic_print_of(
          files[n], job.part(double(n) / double(files.size()), double(n + 1) / double(files.size()))));
      heard.files.push_back(files[n]);
    } catch (const InputError& error) {
      unread.push_back({files[n], error.what(), true});
    }
  return heard;
}

std::string no_such_format(const ClipFormat& f) {
  return fmt::format("the plan has no {} at {} Hz{}", f.codec, f.sample_rate_hz,
                     f.container_bits ? fmt::format(" and {} bit", *f.container_bits) : "");
}

/// A file takes its places in the set, where nothing better has them; what has none stands aside.
void place_file(const std::filesystem::path& file, size_t master, const DeliveryPlan& plan, Differences& differences,
                Deliverables& all, const Job& job) {
  const auto clip = Clip::open(file, job.part(0, 0.1));
  std::optional<Judged> judged;
  for (Deliverable& place : all.wanted) {
    const Rules& rules = plan[place.wanted];
    if (place.master != master || !fits(clip->format(), rules)) continue;
    if (!judged) judged = judge(clip, differences, job.part(0.1, 0.7));
    Deliverable d = deliverable_of(place, *clip, *judged, rules, job.part(0.7, 1));
    if (d.state < place.state) std::swap(d, place);
    if (d.file)
      all.aside.push_back(
          {*d.file, fmt::format("{} is there already, as {}", rules.name, printable(place.file->filename()))});
  }
  if (!judged) all.aside.push_back({file, no_such_format(clip->format())});
}

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
  std::vector<std::filesystem::path> now;
  std::vector<AcousticPrint> of_masters;
  for (const MasterVersions& m : masters) {
    now.push_back(m.now);
    of_masters.push_back(acoustic_print_of(m.now, Job{job.stop, {}, job.threads}));
  }
  const Heard heard = hear(files, all.aside, job.part(0, 0.2));
  Pairing pairing = pair_by_sound(of_masters, heard.prints, Job{job.stop, {}, job.threads});
  leave_other_takes(pairing, now, heard.files, job.part(0.2, 0.3));
  for (const size_t n : pairing.returns_left) all.aside.push_back({heard.files[n], "no master sounds like it"});
  // master by master: what its versions differ by is worked out once, and let go
  std::ranges::stable_sort(pairing.pairs, {}, &Pairing::Pair::master);
  const Job placing = job.part(0.3, 1);
  std::optional<Differences> differences;
  for (size_t n = 0; n < pairing.pairs.size(); ++n) {
    const auto& pair = pairing.pairs[n];
    const auto count = double(pairing.pairs.size());
    if (n == 0 || pair.master != pairing.pairs[n - 1].master) differences.emplace(masters[pair.master]);
    try {
      place_file(heard.files[pair.ret], pair.master, plan, *differences, all,
                 placing.part(double(n) / count, double(n + 1) / count));
    } catch (const InputError& error) {  // gone meanwhile
      all.aside.push_back({heard.files[pair.ret], error.what(), true});
    }
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

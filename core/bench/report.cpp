#include "core/bench/report.hpp"

#include <fmt/chrono.h>
#include <fmt/format.h>

#include <algorithm>
#include <fstream>
#include <map>

#include "core/audio/fingerprint.hpp"
#include "core/bench/report_parts.hpp"
#include "core/compare/phrases.hpp"
#include "core/printable.hpp"

namespace heathmist {

namespace {

constexpr std::uintmax_t most_logo_bytes = 4'000'000;

/// With its first and its last part in place: one that was cut short has none.
bool is_png(const std::string& bytes) {
  return bytes.starts_with("\x89PNG\r\n\x1a\n") && bytes.size() > 45 && bytes.substr(12, 4) == "IHDR" &&
         bytes.substr(bytes.size() - 8, 4) == "IEND";
}
bool is_jpeg(const std::string& bytes) {
  return bytes.starts_with("\xff\xd8\xff") && bytes.find("\xff\xd9", bytes.size() / 2) != std::string::npos;
}

bool holds(const std::vector<std::string>& all, const std::string& one) {
  return std::find(all.begin(), all.end(), one) != all.end();
}

void refuse_unknown(const Bench& bench, const ReportChoice& choice) {
  for (const auto& id : choice.masters)
    if (!bench.master(id)) throw std::invalid_argument(fmt::format("the bench holds no master {}", printable(id)));
  for (const auto& id : choice.trials)
    if (!bench.trial(id)) throw std::invalid_argument(fmt::format("the bench holds no trial {}", printable(id)));
  for (const auto& name : choice.albums)
    if (std::none_of(bench.masters.begin(), bench.masters.end(), [&](const Master& m) { return m.album == name; }))
      throw std::invalid_argument(fmt::format("the bench holds no album {}", printable(name)));
}

/// What is reported of, in the order of the bench.
struct Chosen {
  const Master* master;
  std::vector<const Trial*> trials;
};
std::vector<Chosen> chosen_of(const Bench& bench, const ReportChoice& choice) {
  const bool all = choice.masters.empty() && choice.trials.empty() && choice.albums.empty();
  std::vector<Chosen> chosen;
  for (const Master& m : bench.masters) {
    const bool whole = all || holds(choice.masters, m.id) || (!m.album.empty() && holds(choice.albums, m.album));
    Chosen one{&m, {}};
    for (const Trial& t : m.trials)
      if (whole || holds(choice.trials, t.id)) one.trials.push_back(&t);
    if (whole || !one.trials.empty()) chosen.push_back(std::move(one));
  }
  return chosen;
}

std::string counted(size_t n, const char* one, const char* many) {
  return fmt::format("{} {}", n, n == 1 ? one : many);
}

/// A sentence as it goes out of the house: files by their names, and not where they lie.
std::string without_folders(std::string sentence, const std::vector<std::filesystem::path>& files) {
  for (const auto& file : files) {
    const std::string whole = printable(file), name = file_text(file);
    if (whole.empty() || whole == name) continue;
    for (size_t at = sentence.find(whole); at != std::string::npos; at = sentence.find(whole, at + name.size()))
      sentence.replace(at, whole.size(), name);
  }
  return sentence;
}

/// What a report is made with, and what it has come to.
class Making {
 public:
  Making(const Bench& bench, const ReportChoice& choice, const ReportSources& sources, const Job& job)
      : bench_(bench), choice_(choice), sources_(sources), job_(job), chosen_(chosen_of(bench, choice)) {}

  Report run() {
    Report report;
    if (!choice_.logo.empty()) report.logo = read_logo(choice_.logo);  // before minutes of measuring
    report.heading = printable(choice_.heading.empty() ? bench_.name : choice_.heading);
    if (report.heading.empty()) report.heading = "Report";
    report.date = choice_.date.empty() ? fmt::format("{:%Y-%m-%d}", fmt::localtime(std::time(nullptr))) : choice_.date;
    report.program = fmt::format("Heathmist {}", HEATHMIST_VERSION);
    size_t trials = 0;
    for (const Chosen& c : chosen_) trials += c.trials.size();
    report.about =
        fmt::format("{}, {}", counted(chosen_.size(), "master", "masters"), counted(trials, "trial", "trials"));
    const double share = trials + chosen_.size() > 0 ? 1.0 / double(trials + chosen_.size()) : 1;
    for (const Chosen& c : chosen_)
      for (const Trial* t : c.trials) tell(c, *t, next(share));
    if (choice_.has(ReportPart::loudness) || choice_.has(ReportPart::outlets))
      for (const Chosen& c : chosen_) measure_loudness_of(c, next(share));
    level_albums();
    front(report.blocks);
    for (const Chosen& c : chosen_) master(c, report.blocks);
    albums(report.blocks);
    if (choice_.has(ReportPart::files)) files(report.blocks);
    report.troubles = std::move(troubles_);
    return report;
  }

 private:
  Job next(double share) {
    const double from = done_;
    done_ = std::min(1.0, done_ + share);
    return job_.part(from, done_);
  }

  void tell(const Chosen& c, const Trial& trial, const Job& job) {
    job.check();
    ReportedTrial told{c.master, &trial, {}, {}, {}, {}};
    try {
      const auto result = result_of(*c.master, trial, job);
      told.answer = answer_of(*c.master, trial, *result);
      told.proof = proof_of(trial, *result, choice_, job);
      told.master_print = result->master_print, told.ret_print = trial.chain ? "" : result->ret_print;
    } catch (const Cancelled&) {
      throw;
    } catch (const std::runtime_error& error) {
      told.answer = failed_answer(trial, without_folders(error.what(), {c.master->audio.file, trial.ret.file}));
      note(error.what());
    }
    trials_.push_back(std::move(told));
    job.report(1);
  }

  std::shared_ptr<const AnalysisResult> result_of(const Master& m, const Trial& trial, const Job& job) {
    if (sources_.known)
      if (auto result = sources_.known(trial); result && result->why) return result;
    AnalysisInput input{m.audio.file, trial.ret.file, trial.chain, trial.hold, {}, bench_.floor};
    Analysis& analysis = sources_.analysis ? *sources_.analysis : own_;
    const auto null = analysis.null(input, sources_.grant, job.part(0, 0.5));
    try {
      return std::make_shared<AnalysisResult>(analysis.explained(input, null, job.part(0.5, 1)));
    } catch (const InputError& error) {  // a floor that is gone takes nothing away from the rest
      if (!input.floor) throw;
      note(error.what());
      input.floor.reset();
      return std::make_shared<AnalysisResult>(analysis.explained(input, null, job.part(0.5, 1)));
    }
  }

  void note(const std::string& sentence) {
    if (!holds(troubles_, sentence)) troubles_.push_back(sentence);
  }

  ReportedLoudness heard(const std::string& name, const std::filesystem::path& file,
                         const std::function<Measured()>& measured) {
    ReportedLoudness line{name, {}, {}};
    try {
      line.measured = measured();
    } catch (const Cancelled&) {
      throw;
    } catch (const std::runtime_error& error) {
      line.failure = without_folders(error.what(), {file});
      note(error.what());
    }
    return line;
  }

  void measure_loudness_of(const Chosen& c, const Job& job) {
    auto& lines = loudness_[c.master];
    const double share = 1.0 / double(1 + c.trials.size());
    lines.push_back(heard(c.master->name, c.master->audio.file,
                          [&] { return measure_file(c.master->audio.file, job.part(0, share)); }));
    for (size_t n = 0; choice_.has(ReportPart::loudness) && n < c.trials.size(); ++n) {
      const Trial& t = *c.trials[n];
      const Job part = job.part(share * double(n + 1), share * double(n + 2));
      lines.push_back(heard(title_of(t), t.chain ? c.master->audio.file : t.ret.file, [&] {
        return t.chain ? measure_return(c.master->audio.file, *t.chain, part, sources_.grant)
                       : measure_file(t.ret.file, part);
      }));
    }
  }

  void front(std::vector<ReportBlock>& blocks) const {
    if (chosen_.empty()) return void(blocks.push_back(ReportText{"The bench holds no master yet."}));
    if (!trials_.empty())
      blocks.push_back(ReportText{
          "Each version was laid on its master as closely as it goes, in time and level, and the master was taken away "
          "from it. What is left, the residual, is what was changed. The bar says how far that lies under the music: "
          "at "
          "the left end it would be as loud as the music, at \u221260 dB it is a thousandth of it, at \u2212144 dB "
          "nothing."});
    for (const Chosen& c : chosen_) {
      blocks.push_back(ReportHeading{printable(c.master->name), 2});
      for (const ReportedTrial& t : trials_)
        if (t.master == c.master) blocks.push_back(t.answer);
      if (c.trials.empty()) blocks.push_back(ReportText{"Nothing was laid on this master.", true});
    }
  }

  void master(const Chosen& c, std::vector<ReportBlock>& blocks) const {
    blocks.push_back(ReportPageBreak{});
    blocks.push_back(ReportHeading{printable(c.master->name), 1});
    const auto lines = loudness_.find(c.master);
    if (lines != loudness_.end() && choice_.has(ReportPart::loudness)) blocks.push_back(loudness_table(lines->second));
    if (lines != loudness_.end() && choice_.has(ReportPart::outlets) && lines->second.front().measured) {
      const auto album = albums_.find(c.master->album);
      blocks.push_back(outlets_table(*c.master, *lines->second.front().measured, outlets_,
                                     album == albums_.end() ? nullptr : &album->second));
    }
    if (choice_.has(ReportPart::marks) && !c.master->marks.empty()) blocks.push_back(marks_table(*c.master));
    if (choice_.has(ReportPart::blind))
      for (auto& block : blind_blocks(bench_, *c.master)) blocks.push_back(std::move(block));
    for (const ReportedTrial& t : trials_) {
      if (t.master != c.master) continue;
      blocks.push_back(ReportHeading{printable(title_of(*t.trial)), 2});
      ReportAnswer answer = t.answer;
      answer.done.clear();
      blocks.push_back(std::move(answer));
      blocks.insert(blocks.end(), t.proof.begin(), t.proof.end());
    }
  }

  /// Of the masters that are reported, by the album's name; only where all of it is.
  void level_albums() {
    std::map<std::string, std::vector<const Loudness*>> of;
    std::map<std::string, size_t> whole;
    for (const Master& m : bench_.masters) ++whole[m.album];
    for (const Chosen& c : chosen_)
      if (const auto lines = loudness_.find(c.master); !c.master->album.empty() && lines != loudness_.end())
        if (const auto& first = lines->second.front(); first.measured)
          of[c.master->album].push_back(&first.measured->loudness);
    for (const auto& [name, masters] : of)
      if (masters.size() == whole[name]) albums_.emplace(name, album_levels(masters));
  }

  void albums(std::vector<ReportBlock>& blocks) const {
    if (albums_.empty() || !choice_.has(ReportPart::loudness)) return;
    blocks.push_back(ReportPageBreak{});
    blocks.push_back(ReportHeading{"Albums", 1});
    for (const auto& [name, levels] : albums_) {
      std::vector<ReportedLoudness> lines;
      for (const Chosen& c : chosen_)
        if (c.master->album == name) lines.push_back(loudness_.at(c.master).front());
      lines.emplace_back().name = "the album as one programme";
      lines.back().measured.emplace().loudness = levels.whole;
      ReportTable table = loudness_table(lines);
      table.title = printable(name) + ": " + table.title;
      blocks.push_back(std::move(table));
    }
  }

  void files(std::vector<ReportBlock>& blocks) const {
    blocks.push_back(ReportPageBreak{});
    blocks.push_back(ReportHeading{"What this rests on", 1});
    ReportTable table{"Files, by their content", {{"File"}, {"What it is"}, {"Size and XXH3 hash of its bytes"}}, {}};
    const auto add = [&](const std::filesystem::path& file, const std::string& what, const std::string& seen) {
      const std::string now = fingerprint(file);
      ReportCell hash{now.empty() ? "missing" : now};
      if (now.empty()) hash.severity = Severity::fault;
      if (!now.empty() && !seen.empty() && seen != now) {
        hash.text += ", which changed while it was measured";
        hash.severity = Severity::fault;
      }
      table.rows.push_back({{file_text(file)}, {what}, hash});
    };
    for (const Chosen& c : chosen_) {
      const auto told = [&](const Trial& t) {
        return std::find_if(trials_.begin(), trials_.end(), [&](const ReportedTrial& r) { return r.trial == &t; });
      };
      add(c.master->audio.file, "master", c.trials.empty() ? "" : told(*c.trials.front())->master_print);
      for (const Trial* t : c.trials)
        if (!t->chain) add(t->ret.file, "return of " + printable(c.master->name), told(*t)->ret_print);
    }
    if (bench_.floor) add(bench_.floor->recording.file, "floor of the route", {});
    blocks.push_back(std::move(table));
    blocks.push_back(ReportText{
        "Residual: return less master after the fit, relative to the master's RMS over the overlap (dBr). Loudness: "
        "ITU-R "
        "BS.1770-5, EBU R 128, EBU Tech 3341 and 3342. True peak: BS.1770-5 annex 2. What is masked follows a model of "
        "hearing and is a hint, not a verdict.",
        true});
  }

  const Bench& bench_;
  const ReportChoice& choice_;
  const ReportSources& sources_;
  const Job& job_;

  std::vector<Chosen> chosen_;
  Analysis own_;
  std::vector<Outlet> outlets_ = known_outlets();
  std::vector<ReportedTrial> trials_;
  std::map<const Master*, std::vector<ReportedLoudness>> loudness_;
  std::map<std::string, AlbumLevels> albums_;
  std::vector<std::string> troubles_;
  double done_ = 0;
};

struct NamedPart {
  ReportPart part;
  const char* name;
};
constexpr NamedPart named_parts[] = {{ReportPart::findings, "findings"}, {ReportPart::plots, "plots"},
                                     {ReportPart::loudness, "loudness"}, {ReportPart::outlets, "outlets"},
                                     {ReportPart::settings, "settings"}, {ReportPart::blind, "blind"},
                                     {ReportPart::marks, "marks"},       {ReportPart::files, "files"}};

}  // namespace

const char* name_of(ReportPart part) { return named_parts[size_t(part)].name; }

std::optional<ReportPart> report_part_named(const std::string& name) {
  for (const auto& [part, known] : named_parts)
    if (name == known) return part;
  return {};
}

bool ReportChoice::has(ReportPart part) const {
  return std::find(without.begin(), without.end(), part) == without.end();
}

ReportLogo read_logo(const std::filesystem::path& file) {
  refuse_unless_plain(file);
  if (std::filesystem::file_size(file) > most_logo_bytes)
    throw InputError(file, "as a logo it is too large; take a picture of under 4 MB");
  std::ifstream in(file, std::ios::binary);
  ReportLogo logo;
  logo.bytes.assign(std::istreambuf_iterator<char>(in), {});
  if (logo.bytes.empty()) throw InputError(file, "it cannot be read; check its permissions");
  logo.type = is_png(logo.bytes) ? "image/png" : is_jpeg(logo.bytes) ? "image/jpeg" : "";
  if (logo.type.empty())
    throw InputError(file, "this is no whole picture that a report can carry; give a PNG or a JPEG file as its logo");
  return logo;
}

Report make_report(const Bench& bench, const ReportChoice& choice, const ReportSources& sources, const Job& job) {
  refuse_unknown(bench, choice);
  Job upward = job;  // what is known or fails leaves its part of the work at once, and none goes back
  if (job.progress)
    upward.progress = [tell = job.progress, most = 0.0](double fraction) mutable {
      tell(most = std::max(most, fraction));
    };
  Report report = Making(bench, choice, sources, upward).run();
  upward.report(1);
  return report;
}

}  // namespace heathmist

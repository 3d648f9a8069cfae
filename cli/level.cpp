// level: copies at a target of loudness, written into a folder, read back and checked.
#include "cli/verbs.hpp"
#include "core/delivery/levelled.hpp"
#include "core/printable.hpp"

namespace heathmist::cli {

namespace {

struct LevelCall {
  Shared shared;
  std::vector<std::string> files;
  std::string folder, format = "wav", dither = "triangular", bits = "24";
  double target_lufs = -16, ceiling_dbtp = -1;
  bool limiter = false, album = false;
};

LevelPlan plan_of(const LevelCall& call) {
  LevelPlan plan{call.target_lufs, call.limiter, call.ceiling_dbtp, 24, call.dither, call.format == "flac"};
  plan.bits = call.bits == "16" ? 16 : call.bits == "24" ? 24 : 32;
  if (plan.flac && plan.bits > 24)
    throw std::invalid_argument("--bits: FLAC holds at most 24 bits; write a wav or choose 16 or 24");
  return plan;
}

Json copy_of(const Session& session, const Source& source, const Measured& measured, const LevelPlan& plan,
             const std::filesystem::path& to, const std::vector<const Loudness*>& album) {
  const auto made = write_levelled(Clip::open(source.file), measured.loudness, plan, session.destination(to), album,
                                   session.watched(to.string()));
  session.say("{}: {:+.2f} dB, {} LUFS, {} dBTP{}{}\n", printable(to), made.gain_db,
              shown(made.loudness.integrated_lufs, 2), shown(made.loudness.true_peak_dbtp, 2),
              made.stopped ? ", stopped by the ceiling" : "",
              made.fault.empty() ? "; read back and right" : "; WRONG: " + made.fault);
  Json json{{"path", source.name}};
  json.update(levelled_json(made));
  return json;
}

void level(const LevelCall& call) {
  const LevelPlan plan = plan_of(call);
  Session session(call.shared);
  const auto sources = session.sources(call.files);
  const std::filesystem::path folder = call.folder;
  std::error_code trouble;
  if (std::filesystem::exists(folder, trouble) && !std::filesystem::is_directory(folder, trouble))
    throw InputError(folder, "it is no folder and none can be made there; name another");
  std::vector<std::filesystem::path> files;
  for (const Source& s : sources) files.push_back(s.name == "-" ? std::filesystem::path("standard input") : s.file);
  const auto names = copy_names(files, folder, plan.flac);
  for (const auto& name : names) session.destination(name);  // refused before anything is written
  std::vector<std::optional<Measured>> rows(sources.size());
  std::vector<std::string> bad(sources.size());
  for (size_t n = 0; call.album && n < sources.size(); ++n) {  // its gain is one for all: all are measured first
    try {
      rows[n] = measure_file(sources[n].file, session.watched(sources[n].name));
    } catch (const std::exception& error) {
      bad[n] = error.what();
    }
  }
  std::vector<const Loudness*> album;
  for (const auto& row : rows)
    if (call.album && row) album.push_back(&row->loudness);
  const bool lacking = call.album && album.size() < rows.size();
  Answer answer(session, "copies");
  size_t next = 0;
  answer.each(sources, [&](const Source& source) -> Json {
    const size_t n = next++;
    if (!call.album) rows[n] = measure_file(source.file, session.watched(source.name));
    if (!rows[n]) throw InputError::told(bad[n]);
    if (lacking) throw InputError(source.name, "not levelled, since another file of the album cannot be used");
    Json json = copy_of(session, source, *rows[n], plan, names[n], album);
    if (!json["fault"].is_null())
      answer.fault(printable(names[n]) + ": this copy is not what was asked for: " + json["fault"].get<std::string>());
    return json;
  });
  answer.print();
}

}  // namespace

void add_level(CLI::App& app) {
  auto call = std::make_shared<LevelCall>();
  auto* verb = app.add_subcommand("level", "write copies at a target of loudness, tagged, read back and checked");
  verb->add_option("FILE", call->files, "audio files (- for standard input)");
  verb->add_option("-o,--output", call->folder, "the folder for the copies")->required();
  verb->add_option("--target", call->target_lufs, "LUFS")->capture_default_str()->check(between(-50, 0, "LUFS"));
  verb->add_flag("--limiter", call->limiter,
                 "a true-peak limiter keeps to the ceiling; otherwise the gain stops there");
  verb->add_option("--ceiling", call->ceiling_dbtp, "dBTP")->capture_default_str()->check(between(-40, 0, "dBTP"));
  verb->add_flag("--album", call->album, "one gain for all files");
  verb->add_option("--format", call->format, "wav or flac")
      ->capture_default_str()
      ->check(CLI::IsMember({"wav", "flac"}));
  verb->add_option("--bits", call->bits, "16, 24 or 32f")
      ->capture_default_str()
      ->check(CLI::IsMember({"16", "24", "32f"}));
  verb->add_option("--dither", call->dither, "triangular, rectangular, triangular_high, gaussian or none")
      ->capture_default_str()
      ->check(CLI::IsMember({"triangular", "rectangular", "triangular_high", "gaussian", "none"}));
  add_common(*verb, call->shared);
  add_lists(*verb, call->shared);
  add_force(*verb, call->shared);
  verb->callback([call] { level(*call); });
}

}  // namespace heathmist::cli

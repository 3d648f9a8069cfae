// outlets: what an outlet makes of a file; without files, what outlets there are.
#include "cli/verbs.hpp"
#include "core/compare/json.hpp"
#include "core/delivery/measured.hpp"
#include "core/delivery/outlet.hpp"
#include "core/printable.hpp"

namespace heathmist::cli {

namespace {

struct OutletsCall {
  Shared shared;
  std::vector<std::string> files, keys;
  bool album = false, encode = false, live = false;
  Range dialogue;
  bool dialogue_named() const { return dialogue.from_s > 0 || dialogue.to_s >= 0; }
  std::string csv;
};

std::vector<Outlet> chosen(const Session& session, const std::vector<std::string>& keys) {
  std::vector<std::string> refused, known;
  const auto all = known_outlets(&refused);
  for (const auto& sentence : refused) session.warn(sentence);
  if (keys.empty()) return all;
  std::vector<Outlet> list;
  for (const Outlet& o : all) known.push_back(o.key);
  for (const auto& key : keys) {
    const auto it = std::find(known.begin(), known.end(), key);
    if (it == known.end())
      throw std::invalid_argument(
          fmt::format("--outlet: there is no outlet '{}'; there are {}", key, fmt::join(known, ", ")));
    list.push_back(all[size_t(it - known.begin())]);
  }
  return list;
}

void list_outlets(const Session& session, const std::vector<Outlet>& outlets) {
  Answer answer(session, "outlets");
  for (const Outlet& o : outlets) {
    Json one{{"key", o.key}, {"shipped", o.shipped}};
    one.update(outlet_json(o));
    answer.add(one);
    session.say("{:<24} {:>6.1f} LUFS  {}{}\n", o.key, o.target_lufs, o.what,
                o.edition.empty() ? "" : " " + o.edition + ".");
  }
  answer.print();
}

void print_delivery(const Session& session, const std::string& file, const Outlet& outlet, const Delivery& d) {
  session.say("{}, {}: player {:+.2f} dB{}, heard at {} LUFS, {} dBTP{}\n", printable(file), outlet.name, d.gain_db,
              d.limited == Delivery::Limited::nothing ? "" : fmt::format(" ({})", label_of(d.limited)),
              shown(d.loudness_lufs), shown(d.true_peak_dbtp, 2), d.passes() ? "; passes" : "");
  for (const auto& fault : d.faults) session.say("    {}\n", fault.text);
  if (!d.note.empty()) session.say("    {}\n", d.note);
}

struct File {
  Source source;
  Measured measured;
};

/// Loudness of the stretch that was named as dialogue.
std::optional<double> dialogue_of(const Session& session, const Source& source, const OutletsCall& call) {
  if (!call.dialogue_named()) return {};
  const auto clip = Clip::open(source.file);
  MeterOptions options;
  std::tie(options.first, options.last) = frames_of(call.dialogue, source, clip->format());
  const auto lufs = measure_loudness(*clip, options, session.watched(source.name)).integrated_lufs;
  if (!lufs) throw InputError(source.name, "the stretch named as dialogue is silent; name one with speech in it");
  return lufs;
}

Json deliveries_of(const Session& session, const File& file, const std::vector<Outlet>& outlets,
                   const OutletsCall& call, const AlbumLevels* album, std::vector<Json>& table) {
  Json deliveries = Json::array();
  std::vector<std::pair<Outlet, Delivery>> all;
  const auto dialogue = dialogue_of(session, file.source, call);
  for (const Outlet& outlet : outlets) {
    std::optional<Loudness> encoded;
    if (call.encode && outlet.encode) {
      try {
        const auto made = heathmist::pass(Clip::open(file.source.file), *outlet.encode, session.watched(outlet.name),
                                          {session.grant(), session.shared().force});
        encoded = measure_loudness(*made.ret);
      } catch (const ChainError& error) {
        throw InputError(file.source.name, outlet.name + ", " + error.what());
      }
    }
    const auto d = deliver(outlet, file.measured.loudness, {album, encoded ? &*encoded : nullptr, call.live, dialogue});
    Json json = delivery_json(outlet, d);
    json["after_encode"] = encoded.has_value();
    table.push_back(json);
    table.back()["file"] = file.source.name;
    deliveries.push_back(std::move(json));
    print_delivery(session, file.source.name, outlet, d);
    all.emplace_back(outlet, d);
  }
  session.say("{}: {}\n", printable(file.source.name), sentence_of(all));
  return {{"path", file.source.name}, {"outlets", deliveries}};
}

void outlets(const OutletsCall& call) {
  Session session(call.shared);
  const auto list = chosen(session, call.keys);
  if (call.files.empty() && call.shared.from_file.empty()) return list_outlets(session, list);
  const auto sources = session.sources(call.files);
  if (call.encode)
    for (const Outlet& outlet : list)
      if (outlet.encode) session.take(*outlet.encode);
  check(call.dialogue);
  session.check_output(call.csv);
  std::deque<File> files;
  std::map<std::string, std::string> bad;
  for (const Source& source :
       call.album ? sources : std::vector<Source>()) {  // an album is known when all are measured
    try {
      files.push_back({source, measure_file(source.file, session.watched(source.name))});
    } catch (const std::exception& error) {
      bad[source.name] = error.what();
    }
  }
  std::vector<const Loudness*> masters;
  for (const File& f : files) masters.push_back(&f.measured.loudness);
  const auto album = call.album && bad.empty() ? std::optional(album_levels(masters)) : std::nullopt;
  std::vector<Json> table;
  Answer answer(session, "files");
  answer.each(sources, [&](const Source& source) -> Json {
    if (!call.album)
      return deliveries_of(session, {source, measure_file(source.file, session.watched(source.name))}, list, call,
                           nullptr, table);
    if (const auto sentence = bad.find(source.name); sentence != bad.end()) throw InputError::told(sentence->second);
    const auto file =
        std::find_if(files.begin(), files.end(), [&](const File& f) { return f.source.name == source.name; });
    return deliveries_of(session, *file, list, call, album ? &*album : nullptr, table);
  });
  if (!call.csv.empty()) session.write_text(call.csv, csv_of(table, {"outlet", "name"}));
  answer.print();
}

}  // namespace

void add_outlets(CLI::App& app) {
  auto call = std::make_shared<OutletsCall>();
  auto* verb = app.add_subcommand("outlets", "what each outlet makes of each file; without files, the outlets");
  verb->add_option("FILE", call->files, "audio files (- for standard input)");
  verb->add_option("--outlet", call->keys, "only this outlet, by key; more after commas, or again")
      ->delimiter(',')
      ->allow_extra_args(false);
  verb->add_flag("--album", call->album, "the files are one album");
  verb->add_flag("--encode", call->encode, "send each file through the outlet's encode, too");
  verb->add_flag("--live", call->live, "live tolerances count");
  verb->add_option("--dialogue-from", call->dialogue.from_s,
                   "start of a stretch of dialogue, in s: the anchor where one is asked for");
  verb->add_option("--dialogue-to", call->dialogue.to_s, "its end, in s");
  verb->add_option("--csv", call->csv, "write the table to this file (- for standard output)");
  add_common(*verb, call->shared);
  add_lists(*verb, call->shared);
  add_force(*verb, call->shared);
  add_allow(*verb, call->shared);
  verb->callback([call] { outlets(*call); });
}

}  // namespace heathmist::cli

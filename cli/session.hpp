// What every verb shares: its common options, the files that come in, what goes out, and the sentences in between.
//
//   Session session(shared);
//   Answer answer(session, "files");
//   answer.each(session.sources(names), [&](const Source& file) { return json_of(file); });
//   answer.print();
#pragma once
#include <fmt/format.h>

#include <CLI/CLI.hpp>
#include <deque>
#include <functional>
#include <string>
#include <vector>

#include "core/audio/atomic_file.hpp"
#include "core/audio/temporary.hpp"
#include "core/job.hpp"
#include "core/json.hpp"
#include "core/stages/chain.hpp"

namespace heathmist::cli {

/// Some files could not be used; each has been told. Exit status 1.
struct SomeFailed {};
/// All could be used, and some did not pass. Exit status 3.
struct SomeDidNotPass {};

/// What is taken by every verb that has the option.
struct Shared {
  bool json = false, jsonl = false, quiet = false, no_progress = false, force = false;
  std::string from_file, part;
  std::vector<std::string> allow;
  bool wants_json() const { return json || jsonl; }
};

/// The options of every verb; of those that take many files; of those that write; of those that run chains.
void add_common(CLI::App& verb, Shared& shared);
void add_lists(CLI::App& verb, Shared& shared);
void add_force(CLI::App& verb, Shared& shared);
void add_allow(CLI::App& verb, Shared& shared);

/// A file as it was named, and where its bytes lie: standard input is first brought to a passing file.
struct Source {
  std::string name;
  std::filesystem::path file;
};

class Session {
 public:
  explicit Session(const Shared& shared);

  /// The files that were named and those of --from-file, of them the share of --part. Throws std::invalid_argument
  /// where the words are off, InputError for a list that cannot be read.
  std::vector<Source> sources(std::vector<std::string> names);
  Source source(const std::string& name);
  /// A file that is read besides: it is never written over either.
  void also_reads(const std::filesystem::path& file) { inputs_.push_back(file); }
  /// A chain from a file, with all it reads. Throws InputError; std::invalid_argument where it needs leave it has not.
  Chain chain(const std::string& file);
  /// The same for one that came otherwise.
  void take(const Chain& chain);
  Grant grant() const;

  /// Where a file goes; refused at once where it may not be written. An empty name is none and passes.
  Destination destination(const std::filesystem::path& file) const;
  void check_output(const std::string& file) const;
  /// Writes text to a file, or to standard output where it is called -.
  void write_text(const std::string& file, const std::string& text) const;
  /// Has `write` write a file; one called - goes to standard output.
  void write_file(const std::string& file, const char* ending,
                  const std::function<void(const Destination&)>& write) const;

  /// Progress for a person who watches: a line on standard error, where that is a terminal; never backwards.
  Job watched(const std::string& what) const;
  bool is_for_people() const { return !shared_.json && !shared_.jsonl && !shared_.quiet; }
  template <class... Values>
  void say(fmt::format_string<Values...> words, Values&&... values) const {
    if (is_for_people()) fmt::print(words, std::forward<Values>(values)...);
  }
  void warn(const std::string& sentence) const;
  const Shared& shared() const { return shared_; }

 private:
  const Shared& shared_;
  std::deque<TemporaryFolder> passing_;
  std::vector<std::filesystem::path> inputs_;
  bool standard_input_is_taken_ = false;
};

/// A sentence on standard error, on one line.
void complain(const std::string& sentence);

/// An answer made of one entry for each file: a bad one gets its entry, too, and the others stand.
class Answer {
 public:
  Answer(const Session& session, std::string key) : session_(session), key_(std::move(key)) {}
  /// `work` gives the entry of one file; where it throws, the entry is {"path", "error"} and the sentence is told.
  void each(const std::vector<Source>& sources, const std::function<Json(const Source&)>& work);
  /// An entry of its own making.
  void add(Json entry);
  void fail(const std::string& name, const std::string& sentence);
  /// Something is wrong with an entry that stands: it is told, and the exit status says so.
  void fault(const std::string& sentence);
  bool failed() const { return failed_; }
  std::vector<Json> entries() const { return {entries_.begin(), entries_.end()}; }
  /// Another key of the answer, beside the list.
  void set(const std::string& key, Json value) { others_[key] = std::move(value); }
  /// Prints what was asked for. Throws SomeFailed.
  void print();

 private:
  const Session& session_;
  std::string key_;
  Json entries_ = Json::array(), others_ = Json::object();
  bool failed_ = false;
};

/// Prints one JSON object, as it was asked for.
void print(const Json& json, const Shared& shared);

/// Takes numbers in a range: "takes -50 to 0 LUFS, not '-16LUFS'".
CLI::Validator between(double low, double high, const std::string& unit);

/// The known word that is nearest to one that is not known; empty where none is near.
std::string nearest(const std::string& word, const std::vector<std::string>& known);

}  // namespace heathmist::cli

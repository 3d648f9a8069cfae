#include "cli/session.hpp"

#include <unistd.h>

#include <charconv>
#include <cmath>
#include <fstream>
#include <iostream>
#include <numeric>

#include "core/printable.hpp"

namespace heathmist::cli {

namespace {

/// Brings a stream to a file of its own.
void copy(std::istream& in, AtomicFile& out) {
  std::vector<char> bytes(1 << 16);
  while (in.read(bytes.data(), std::streamsize(bytes.size())), in.gcount() > 0)
    out.write({bytes.data(), size_t(in.gcount())});
}

void put_out(std::string_view bytes) {
  if (std::fwrite(bytes.data(), 1, bytes.size(), stdout) != bytes.size() || std::fflush(stdout) != 0)
    throw InputError("-", "standard output cannot be written to its end; check where it leads");
}

/// "2/5": the second of five shares.
std::pair<size_t, size_t> share_in(const std::string& words) {
  size_t which = 0, of = 0;
  const char *begin = words.data(), *end = begin + words.size();
  const auto first = std::from_chars(begin, end, which);
  const bool slash = first.ptr < end && *first.ptr == '/';
  const auto second = std::from_chars(slash ? first.ptr + 1 : end, end, of);
  if (!slash || first.ec != std::errc{} || second.ec != std::errc{} || second.ptr != end || which < 1 || which > of)
    throw std::invalid_argument(fmt::format("--part takes K/N with K from 1 to N, not '{}'", printable(words)));
  return {which, of};
}

std::vector<std::string> lines_of(std::istream& in) {
  std::vector<std::string> lines;
  for (std::string line; std::getline(in, line);) {
    if (line.ends_with('\r')) line.pop_back();
    if (!line.empty()) lines.push_back(line);
  }
  return lines;
}

/// What was thrown, said of the file as it was named.
std::string said_of(const Source& source, const std::string& sentence) {
  const std::string passing = printable(source.file) + ": ";
  return source.name == "-" && sentence.starts_with(passing) ? "-: " + sentence.substr(passing.size()) : sentence;
}

}  // namespace

void add_common(CLI::App& verb, Shared& shared) {
  verb.add_flag("--json", shared.json, "one JSON object on standard output");
  verb.add_flag("--jsonl", shared.jsonl, "the same on one line; of many files a line each, as soon as it is done");
  verb.add_flag("-q,--quiet", shared.quiet, "say nothing but what is wrong");
  verb.add_flag("--no-progress", shared.no_progress, "no progress on the terminal");
}

void add_lists(CLI::App& verb, Shared& shared) {
  verb.add_option("--from-file", shared.from_file,
                  "read names of files from this list, one a line (- for standard input)");
  verb.add_option("--part", shared.part, "K/N: only every N-th file, from the K-th on");
}

void add_force(CLI::App& verb, Shared& shared) {
  verb.add_flag("--force", shared.force, "files that are there may be replaced; never one that is read");
}

void add_allow(CLI::App& verb, Shared& shared) {
  verb.add_option("--allow", shared.allow,
                  "what stages may do: external (run programs), lv2 (load plug-ins), keep (keep files)")
      ->delimiter(',')
      ->allow_extra_args(false)
      ->check(CLI::IsMember({"external", "lv2", "keep"}));
}

Session::Session(const Shared& shared) : shared_(shared) {
  if (shared.json && shared.jsonl) throw std::invalid_argument("--json and --jsonl exclude each other; choose one");
}

Source Session::source(const std::string& name) {
  if (name != "-") {
    inputs_.push_back(name);
    return {name, name};
  }
  if (std::exchange(standard_input_is_taken_, true))
    throw std::invalid_argument("- stands for standard input, which can be read once only");
  const auto file = passing_.emplace_back().path() / "standard input";
  AtomicFile out(file);
  copy(std::cin, out);
  out.commit();
  return {name, file};
}

std::vector<Source> Session::sources(std::vector<std::string> names) {
  if (shared_.from_file == "-") {
    if (std::exchange(standard_input_is_taken_, true))
      throw std::invalid_argument("- stands for standard input, which can be read once only");
    for (auto& name : lines_of(std::cin)) names.push_back(std::move(name));
  } else if (!shared_.from_file.empty()) {
    refuse_unless_plain(shared_.from_file);
    also_reads(shared_.from_file);
    std::ifstream in(shared_.from_file, std::ios::binary);
    for (auto& name : lines_of(in)) names.push_back(std::move(name));
  }
  if (names.empty()) throw std::invalid_argument("name a file, or a list of files with --from-file");
  for (const auto& name : names)  // what another part works on is no output here either
    if (name != "-") also_reads(name);
  std::vector<Source> found;
  const auto [which, of] = shared_.part.empty() ? std::pair<size_t, size_t>{1, 1} : share_in(shared_.part);
  for (size_t n = which - 1; n < names.size(); n += of) found.push_back(source(names[n]));
  return found;
}

Grant Session::grant() const {
  std::vector<Capability> capabilities;
  for (const auto& word : shared_.allow)
    if (const auto capability = capability_named(word)) capabilities.push_back(*capability);
  return grant_of(std::move(capabilities));
}

Chain Session::chain(const std::string& file) {
  also_reads(file);
  const Chain chain = load_chain(file);
  take(chain);
  return chain;
}

void Session::take(const Chain& chain) {
  for (const auto& file : files_read_by(chain)) also_reads(file);
  for (const Stage* stage : disarmed_stages(chain, grant())) {
    const char* word = word_of(*capability_of(*stage));
    throw std::invalid_argument(
        fmt::format("a stage would {}; allow it with --allow {}, or take it out", printable(deed_of(*stage)), word));
  }
  for (const Stage& stage : chain.stages)
    if (stage.on && capability_of(stage) == Capability::write_file)
      destination(stage.values["keep"].get<std::string>());
}

Destination Session::destination(const std::filesystem::path& file) const {
  Destination to(file, shared_.force, inputs_);
  check(to);
  return to;
}

void Session::check_output(const std::string& file) const {
  if (file == "-" && (shared_.json || shared_.jsonl))
    throw std::invalid_argument("- is standard output, where the JSON goes; name a file, or leave --json away");
  if (!file.empty() && file != "-") destination(file);
}

void Session::write_text(const std::string& file, const std::string& text) const {
  if (file.empty()) return;
  if (file == "-")
    put_out(text);
  else
    write_whole(destination(file), text);
}

void Session::write_file(const std::string& file, const char* ending,
                         const std::function<void(const Destination&)>& write) const {
  if (file != "-") return write(destination(file));
  const TemporaryFolder folder;
  const auto passing = folder.path() / (std::string("out") + ending);
  write(passing);
  std::ifstream in(passing, std::ios::binary);
  std::vector<char> bytes(1 << 16);
  while (in.read(bytes.data(), std::streamsize(bytes.size())), in.gcount() > 0)
    put_out({bytes.data(), size_t(in.gcount())});
}

Job Session::watched(const std::string& what) const {
  if (!isatty(STDERR_FILENO) || shared_.quiet || shared_.no_progress) return {};
  Job job;
  const char* plain = std::getenv("NO_COLOR");
  // parts of the job copy this: what was shown last is one for all of them
  job.progress = [what = printable(what), escapes = !(plain && *plain),
                  last = std::make_shared<int>(-1)](double fraction) {
    const int percent = std::min(100, int(100 * fraction));
    if (percent <= *last) return;
    *last = percent;
    const std::string line = fmt::format("{} {} %", what, percent);
    const std::string clear = escapes ? "\r\033[K" : "\r" + std::string(line.size(), ' ') + "\r";
    fmt::print(stderr, "\r{}{}", line, percent >= 100 ? clear : "");
  };
  return job;
}

void Session::warn(const std::string& sentence) const {
  if (!shared_.quiet) complain(sentence);
}

void complain(const std::string& sentence) { fmt::print(stderr, "heathmist-cli: {}\n", printable(sentence)); }

void Answer::add(Json entry) {
  if (session_.shared().jsonl) put_out(text_of(entry, -1) + "\n");
  entries_.push_back(std::move(entry));
}

void Answer::fault(const std::string& sentence) {
  failed_ = true;
  complain(sentence);
}

void Answer::fail(const std::string& name, const std::string& sentence) {
  fault(sentence);
  add({{"path", name}, {"error", sentence}});
}

void Answer::each(const std::vector<Source>& sources, const std::function<Json(const Source&)>& work) {
  for (const Source& source : sources) {
    try {
      add(work(source));
    } catch (const std::invalid_argument&) {
      throw;  // the words of the call are off, for every file
    } catch (const InputError& error) {
      fail(source.name, said_of(source, error.what()));
    } catch (const ChainError& error) {
      fail(source.name, fmt::format("{}: {}", printable(source.name), error.what()));
    } catch (const std::exception& error) {
      fail(source.name, fmt::format("{}: it could not be worked on ({})", printable(source.name), error.what()));
    }
  }
}

void Answer::print() {
  if (session_.shared().json) {
    Json whole{{key_, entries_}};
    whole.update(others_);
    put_out(text_of(whole) + "\n");
  } else if (session_.shared().jsonl && !others_.empty()) {
    put_out(text_of(others_, -1) + "\n");
  }
  if (failed_) throw SomeFailed();
}

void print(const Json& json, const Shared& shared) { put_out(text_of(json, shared.jsonl ? -1 : 2) + "\n"); }

CLI::Validator between(double low, double high, const std::string& unit) {
  return CLI::Validator(
      [low, high, unit](const std::string& text) {
        double value = 0;
        const char* begin = text.c_str() + (text.starts_with('+') ? 1 : 0);
        const auto [end, error] = std::from_chars(begin, text.c_str() + text.size(), value);
        const bool number = error == std::errc{} && end == text.c_str() + text.size() && std::isfinite(value);
        if (number && value >= low && value <= high) return std::string();
        return fmt::format("takes {:g} to {:g}{}{}, not '{}'", low, high, unit.empty() ? "" : " ", unit,
                           printable(text));
      },
      fmt::format("{:g} to {:g}{}{}", low, high, unit.empty() ? "" : " ", unit));
}

namespace {

/// Letters to put in, leave out or exchange (Levenshtein 1966).
size_t distance(const std::string& a, const std::string& b) {
  std::vector<size_t> row(b.size() + 1);
  std::iota(row.begin(), row.end(), size_t(0));
  for (size_t i = 0; i < a.size(); ++i) {
    size_t before = std::exchange(row[0], i + 1);
    for (size_t j = 0; j < b.size(); ++j) {
      const size_t here = std::min({row[j] + 1, row[j + 1] + 1, before + (a[i] != b[j])});
      before = std::exchange(row[j + 1], here);
    }
  }
  return row.back();
}

}  // namespace

std::string nearest(const std::string& word, const std::vector<std::string>& known) {
  std::string best;
  size_t least = std::max<size_t>(2, word.size() / 3) + 1;
  for (const auto& candidate : known)
    if (const size_t d = distance(word, candidate); d < least) least = d, best = candidate;
  return best;
}

}  // namespace heathmist::cli

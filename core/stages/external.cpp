// Any program that reads one file and writes another.
#include <fmt/format.h>

#include "core/audio/write.hpp"
#include "core/printable.hpp"
#include "core/stages/process.hpp"
#include "core/stages/stage_context.hpp"

namespace heathmist {

namespace {

namespace p = parameter;

std::string replaced(std::string word, const std::string& what, const std::string& by) {
  for (size_t at = 0; (at = word.find(what, at)) != std::string::npos; at += by.size())
    word.replace(at, what.size(), by);
  return word;
}

std::vector<std::string> command_of(const Values& v) {
  const std::string command = v.text("command");
  std::vector<std::string> words;
  try {
    words = words_of_command(command);
  } catch (const std::invalid_argument& error) {
    throw ChainError(fmt::format("command: {}; close it", error.what()));
  }
  if (words.empty() || command.find("{in}") == std::string::npos || command.find("{out}") == std::string::npos)
    throw ChainError("command takes a program with {in} and {out} where the files' names go");
  return words;
}

void write(AudioStream& in, const std::filesystem::path& file, WordFormat words, const Job& job) {
  const auto& f = in.format();
  ClipWriter out(file, f.sample_rate_hz, f.channels, words);
  out.expect(f.frames);
  Planar block;
  for (int64_t at = 0; at < f.frames; at += block.frames()) {
    job.check();
    in.next(std::min<int64_t>(1 << 16, f.frames - at), block);
    out.write(block);
  }
  out.finish();
}

/// What a program said, as the end of a sentence.
std::string last_words(std::string said) {
  while (!said.empty() && isspace(static_cast<unsigned char>(said.back()))) said.pop_back();
  for (char& c : said)
    if (c == '\n' || c == '\r' || c == '\t') c = ' ';
  if (said.empty()) return "it said nothing";
  return "it said: " + printable(said.size() > 400 ? "... " + said.substr(said.size() - 400) : said);
}

AudioStreamPtr make(AudioStreamPtr in, const Values& v, StageContext& context) {
  auto words = command_of(v);
  const TemporaryFolder folder;
  const auto input = folder.path() / "in.wav", output = folder.path() / ("out" + v.text("ending"));
  write(*in, input,
        v.text("input") == "float32" ? WordFormat::float32
        : v.text("input") == "pcm24" ? WordFormat::pcm24
                                     : WordFormat::pcm16,
        context.job);
  for (auto& w : words) w = replaced(replaced(w, "{in}", input.string()), "{out}", output.string());
  const Ended ended = run_program(words, folder.path(), v.number("limit_s"), context.job);
  const std::string name = words.front();
  if (ended.not_found)
    throw ChainError(fmt::format("there is no program '{}' that can be run; install it or give its whole path", name));
  if (ended.timed_out)
    throw ChainError(fmt::format("{} did not end within {} s and was stopped; raise limit_s or mend the command", name,
                                 plain(v.number("limit_s"))));
  if (ended.status != 0)
    throw ChainError(fmt::format("{} failed with status {}; {}", name, ended.status, last_words(ended.said)));
  if (!std::filesystem::exists(output))
    throw ChainError(fmt::format("{} ended well but wrote no file to {{out}}; {}", name, last_words(ended.said)));
  try {
    const auto clip = Clip::open(output, context.job);
    return stream_of(materialise(*stream_of(clip), context.origin, context.job));  // the folder goes
  } catch (const InputError&) {
    throw ChainError(fmt::format("{} wrote something to {{out}} that is no audio that can be read; {}", name,
                                 last_words(ended.said)));
  }
}

}  // namespace

std::vector<StageFamily> external_stages() {
  return {{{"external",
            "External program",
            "Any program that reads one audio file and writes another; run without a shell.",
            {p::text("command", "the program and its arguments, with {in} and {out} for the files", ""),
             p::choice("input", "what {in} is written as (WAV)", {"float32", "pcm24", "pcm16"}),
             p::text("ending", "ending of {out}", ".wav"), p::number("limit_s", "stopped after", "s", 0.1, 86400, 300)},
            Capability::run_program},
           make,
           [](const Values& v) {
             const std::string command = v.text("command");
             return command.empty() ? std::string("external")
                                    : std::filesystem::path(command.substr(0, command.find(' '))).filename().string();
           }}};
}

}  // namespace heathmist

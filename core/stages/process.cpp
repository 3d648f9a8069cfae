#include "core/stages/process.hpp"

#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <chrono>
#include <stdexcept>
#include <utility>

namespace heathmist {

namespace {

constexpr size_t most_said = 2000;

/// In the child: nothing here may allocate.
[[noreturn]] void become(char* const* arguments, const char* folder, int output, int trouble) {
  ::setpgid(0, 0);
  const int nothing = ::open("/dev/null", O_RDONLY);
  ::dup2(nothing, 0);
  ::dup2(output, 1);
  ::dup2(output, 2);
  if (::chdir(folder) == 0) ::execvp(arguments[0], arguments);
  const int why = errno;
  [[maybe_unused]] const ssize_t told = ::write(trouble, &why, sizeof why);
  ::_exit(127);
}

void hear(int from, std::string& said) {
  char bytes[4096];
  ssize_t n = 0;
  while ((n = ::read(from, bytes, sizeof bytes)) > 0) {
    said.append(bytes, size_t(n));
    if (said.size() > most_said) said.erase(0, said.size() - most_said);
  }
}

}  // namespace

Ended run_program(const std::vector<std::string>& words, const std::filesystem::path& folder, double limit_s,
                  const Job& job) {
  std::vector<char*> arguments;
  for (const auto& w : words) arguments.push_back(const_cast<char*>(w.c_str()));
  arguments.push_back(nullptr);
  int output[2], trouble[2];
  if (::pipe2(output, O_CLOEXEC) != 0) throw std::runtime_error("no pipe can be made");
  ::fcntl(output[0], F_SETFL, O_NONBLOCK);  // this end alone: a program must be able to wait while it writes
  if (::pipe2(trouble, O_CLOEXEC) != 0) throw std::runtime_error("no pipe can be made");
  const pid_t child = ::fork();
  if (child == 0) become(arguments.data(), folder.c_str(), output[1], trouble[1]);
  ::close(output[1]);
  ::close(trouble[1]);
  Ended ended;
  int why = 0;
  ended.not_found = child < 0 || ::read(trouble[0], &why, sizeof why) == ssize_t(sizeof why);
  ::close(trouble[0]);
  const auto end = std::chrono::steady_clock::now() + std::chrono::duration<double>(limit_s);
  int status = 0;
  bool stopped = false;
  for (pid_t done = 0; child > 0 && done == 0;) {
    pollfd waiting{output[0], POLLIN, 0};
    ::poll(&waiting, 1, 20);
    if (waiting.revents & POLLHUP) ::usleep(5000);
    hear(output[0], ended.said);
    done = ::waitpid(child, &status, WNOHANG);
    stopped = job.stop.stop_requested();
    ended.timed_out = !done && std::chrono::steady_clock::now() > end;
    if (!done && (stopped || ended.timed_out)) {
      ::kill(-child, SIGKILL);
      ::waitpid(child, &status, 0);
      break;
    }
  }
  hear(output[0], ended.said);
  ::close(output[0]);
  if (stopped) throw Cancelled();
  ended.status = WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
  return ended;
}

std::vector<std::string> words_of_command(const std::string& command) {
  std::vector<std::string> words;
  bool inside = false;
  char quote = 0;
  for (size_t n = 0; n < command.size(); ++n) {
    const char c = command[n];
    if (!quote && (c == ' ' || c == '\t' || c == '\n')) {
      inside = false;
      continue;
    }
    if (!std::exchange(inside, true)) words.emplace_back();
    if (c == quote)
      quote = 0;
    else if (!quote && (c == '"' || c == '\''))
      quote = c;
    else if (c == '\\' && quote != '\'' && n + 1 < command.size())
      words.back() += command[++n];
    else
      words.back() += c;
  }
  if (quote) throw std::invalid_argument("a quote is left open");
  return words;
}

}  // namespace heathmist

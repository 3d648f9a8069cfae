// The command line called as scripts call it.
#pragma once
#include <QJsonArray>
#include <QJsonDocument>
#include <QJsonObject>
#include <QProcess>

namespace heathmist::test {

struct Answer {
  int status;
  QByteArray out, err;
  QJsonObject json() const { return QJsonDocument::fromJson(out).object(); }
};

/// Calls a program; `input` is what it reads, `variables` ("NAME=value") are put into its environment. A call that
/// takes over two minutes is -1.
inline Answer call_program(const QString& program, const QStringList& words, const QByteArray& input = {},
                           const QStringList& variables = {}) {
  QProcess process;
  auto environment = QProcessEnvironment::systemEnvironment();
  for (const QString& v : variables) {
    const auto name = v.section('=', 0, 0), value = v.section('=', 1);
    value.isEmpty() ? environment.remove(name) : environment.insert(name, value);
  }
  process.setProcessEnvironment(environment);
  process.start(program, words);
  process.write(input);
  process.closeWriteChannel();
  if (!process.waitForFinished(120000)) {
    process.kill();
    process.waitForFinished();
    return {-1, {}, "it did not end"};
  }
  return {process.exitStatus() == QProcess::NormalExit ? process.exitCode() : -2, process.readAllStandardOutput(),
          process.readAllStandardError()};
}

#ifdef HEATHMIST_CLI
inline Answer call(const QStringList& words, const QByteArray& input = {}, const QStringList& variables = {}) {
  return call_program(HEATHMIST_CLI, words, input, variables);
}
#endif

}  // namespace heathmist::test

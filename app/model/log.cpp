#include "app/model/log.hpp"

#include <spdlog/sinks/rotating_file_sink.h>
#include <spdlog/spdlog.h>

#include <QFile>
#include <QStandardPaths>

namespace heathmist::app {

namespace {

constexpr size_t most_bytes = 1 << 20;

QtMessageHandler plain_handler = nullptr;

void take_message(QtMsgType type, const QMessageLogContext& context, const QString& message) {
  if (type != QtDebugMsg && type != QtInfoMsg) log_line(LogLevel::trouble, message);
  if (plain_handler) plain_handler(type, context, message);
}

std::filesystem::path older(const std::filesystem::path& file) {
  auto name = file;
  return name.replace_filename(file.stem().string() + ".1" + file.extension().string());
}

}  // namespace

std::filesystem::path log_file() {
  return std::filesystem::path(QStandardPaths::writableLocation(QStandardPaths::AppLocalDataLocation).toStdString()) /
         "log" / "heathmist.log";
}

void begin_log(const std::filesystem::path& file) {
  try {
    std::filesystem::create_directories(file.parent_path());
    auto sink = std::make_shared<spdlog::sinks::rotating_file_sink_mt>(file.string(), most_bytes, 1);
    auto log = std::make_shared<spdlog::logger>("heathmist", std::move(sink));
    log->set_pattern("%Y-%m-%d %H:%M:%S %l: %v");
    log->flush_on(spdlog::level::info);
    log->set_error_handler([](const std::string&) {});  // a full disk keeps nobody from working
    spdlog::set_default_logger(std::move(log));
    if (!plain_handler) plain_handler = qInstallMessageHandler(take_message);
  } catch (const std::exception&) {
    spdlog::default_logger()->set_level(spdlog::level::off);
  }
}

void log_line(LogLevel level, const QString& words) {
  if (spdlog::default_logger()->name().empty()) return;  // it was not begun: nothing goes to the terminal
  const std::string line = words.simplified().toStdString();
  level == LogLevel::trouble ? spdlog::warn("{}", line) : spdlog::info("{}", line);
}

QString read_log(const std::filesystem::path& file) {
  QString text;
  for (const auto& part : {older(file), file}) {
    QFile in(QString::fromStdString(part.string()));
    if (in.open(QIODevice::ReadOnly)) text += QString::fromUtf8(in.readAll());
  }
  return text;
}

}  // namespace heathmist::app

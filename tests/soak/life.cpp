#include "tests/soak/life.hpp"

#include <QDialog>
#include <QtTest>
#include <array>

#include "app/pages/page.hpp"
#include "app/plots/plate.hpp"
#include "app/theme/theme.hpp"
#include "tests/soak/truths.hpp"
#include "tests/support/layout.hpp"
#include "tests/support/window.hpp"

namespace heathmist::soak {

using namespace app;

namespace {

constexpr int rate = 48000;

/// What ends the program, or leads out of this bench.
bool is_left_out(const QString& name) {
  for (const char* word : {"Quit", "New bench", "demo album", "Open bench", "Recover", "handbook", "log"})
    if (name.contains(word)) return true;
  return false;
}

/// What is taken back: not how it is drawn, nor what its files were seen to hold.
std::string bench_text(const Bench& bench) {
  Bench plain = bench;
  plain.settings = Json::object();
  for (Master& m : plain.masters) {
    m.audio.fingerprint.clear();
    for (Trial& t : m.trials) t.ret.fingerprint.clear();
  }
  return bench_json(plain, "/").dump();
}

}  // namespace

Life::Life(uint64_t seed, int trials) : chance_(seed) {
  test::prepare_window(folder_);
  make_files();
  open_window(trials);
  closer_.setInterval(150);
  connect(&closer_, &QTimer::timeout, this, [this] {
    if (QWidget* popup = QApplication::activePopupWidget()) popup->close();
    look_at_dialogs();
  });
  closer_.start();
}

Life::~Life() = default;

/// What is modal is looked at, and left.
void Life::look_at_dialogs() {
  auto* dialog = qobject_cast<QDialog*>(QApplication::activeModalWidget());
  if (!dialog) return;
  if (!dialog->inherits("QFileDialog"))  // that is the toolkit's
    for (const QString& fault : test::faults_of(*dialog)) seen_wrong_ << dialog->windowTitle() + ": " + fault;
  ++dialogs_;
  dialog->reject();
}

void Life::make_files() {
  sound_ = test::scaled(test::with_noise(test::Programme(6, 1).render(rate), 1e-3, 5), 0.5);
  test::save(folder_ / "tide.wav", sound_, rate, WordFormat::pcm24);
  test::save(folder_ / "ebb.wav", test::Programme(5, 2).render(rate), rate, WordFormat::pcm16);
  for (const char* name : {"tide-noisy.wav", "tide-quiet.wav", "tide-copy.wav"}) returns_.push_back(folder_ / name);
  test::save(returns_[0], test::with_noise(sound_, 1e-3, 9), rate, WordFormat::pcm24);
  test::save(returns_[1], test::scaled(sound_, 0.7), rate, WordFormat::pcm24);
  test::save(returns_[2], sound_, rate, WordFormat::pcm24);
}

void Life::open_window(int trials) {
  window_ = std::make_unique<MainWindow>(std::make_unique<FrailDevice>(plug_));
  window_->set_quiet(true);
  window_->resize(1280, 800);
  window_->show();
  window_->workspace().model().edit("the first bench", [&](Bench& bench) {
    bench.name = "Curlew Hours";
    Master tide{"m1", "Tide", {folder_ / "tide.wav", {}}, {}};
    for (const auto& file : returns_) tide.trials.push_back({file.stem().string(), {}, {file, {}}, {}});
    Trial made{"made", "16 bit", {}, {}};
    made.chain = Chain{"16 bit", {{"word_length", {{"bits", 16}}}}};
    tide.trials.push_back(made);
    for (int n = 0; n < trials; ++n) {
      const std::string id = "more" + std::to_string(n);
      tide.trials.push_back({id, id, {returns_[size_t(n) % returns_.size()], {}}, {}});
    }
    Master ebb{"m2", "Ebb", {folder_ / "ebb.wav", {}}, {}};
    Trial lossy{"lossy", "MP3", {}, {}};
    lossy.chain = Chain{"MP3", {{"codec", {{"codec", "mp3"}, {"bit_rate_kbps", 128}}}}};
    ebb.trials.push_back(lossy);
    bench.masters = {tide, ebb};
  });
  window_->workspace().model().undo_stack().clear();
  first_bench_ = bench_text(window_->workspace().bench());
  window_->workspace().look_at("tide-noisy");
}

void Life::let_live(int ms) {
  QElapsedTimer since;
  since.start();
  do QCoreApplication::processEvents(QEventLoop::AllEvents, 10);
  while (since.elapsed() < ms);
}

void Life::step() {
  struct Deed {
    const char* name;
    int weight;
    void (Life::*what)();
  };
  static constexpr std::array<Deed, 11> deeds{{{"a page", 10, &Life::show_a_page},
                                               {"a command", 18, &Life::run_a_command},
                                               {"another trial", 10, &Life::look_at_a_trial},
                                               {"a selection", 10, &Life::select_something},
                                               {"a hold", 6, &Life::hold_something},
                                               {"undo or redo", 8, &Life::take_back_or_again},
                                               {"a file changes", 2, &Life::change_a_file},
                                               {"a key", 16, &Life::press_a_key},
                                               {"a wheel", 12, &Life::turn_a_wheel},
                                               {"the window", 3, &Life::change_the_window},
                                               {"the device", 3, &Life::pull_or_plug_the_device}}};
  const QString only = qEnvironmentVariable("HEATHMIST_SOAK_ONLY");  // deeds by name, to find what one of them does
  const auto weight_of = [&](const Deed& d) { return only.isEmpty() || only.contains(d.name) ? d.weight : 0; };
  int all = 0;
  for (const Deed& d : deeds) all += weight_of(d);
  int at = below(all);
  for (const Deed& d : deeds) {
    if ((at -= weight_of(d)) >= 0) continue;
    last_ = d.name;
    (this->*d.what)();
    break;
  }
  ++steps_;
  if (qEnvironmentVariableIsSet("HEATHMIST_SOAK_SHOW")) qInfo("%d %s", steps_, qPrintable(last_));
  let_live(below(5) ? below(40) : below(400));
}

void Life::show_a_page() {
  const Page& page = pages()[size_t(below(int(pages().size())))];
  last_ += ": " + page.title;
  window_->show_page(page.key);
}

void Life::run_a_command() {
  const auto& all = window_->commands();
  const Command& command = all[size_t(below(int(all.size())))];
  if (is_left_out(command.name) || (command.enabled && !command.enabled())) return;
  last_ += ": " + command.name;
  command.run();
}

void Life::look_at_a_trial() {
  std::vector<std::string> ids;
  for (const Master& m : window_->workspace().bench().masters) {
    ids.push_back(m.id);
    for (const Trial& t : m.trials) ids.push_back(t.id);
  }
  if (!ids.empty()) window_->workspace().look_at(ids[size_t(below(int(ids.size())))]);
}

void Life::select_something() {
  auto& workspace = window_->workspace();
  const double from = between(0, 5), low = std::pow(10, between(1.3, 4));
  if (below(2)) workspace.select(below(4) ? std::optional(std::pair{from, from + between(0.01, 2)}) : std::nullopt);
  if (below(2)) workspace.select_band(below(4) ? std::optional(std::pair{low, low * between(1.1, 4)}) : std::nullopt);
}

void Life::hold_something() {
  auto& workspace = window_->workspace();
  if (!workspace.bench().trial(workspace.current())) return;
  FitHold hold = workspace.current_hold();
  if (below(2)) hold.gain_db = below(3) ? std::optional(between(-3, 3)) : std::nullopt;
  if (below(2)) hold.delay_samples = below(3) ? std::optional(std::round(between(-50, 50))) : std::nullopt;
  if (!below(4)) hold.inverted = below(2) ? std::optional(below(2) == 1) : std::nullopt;
  workspace.hold(hold, "Held by chance");
}

void Life::take_back_or_again() {
  auto& stack = window_->workspace().model().undo_stack();
  if (below(3))
    stack.undo();
  else
    stack.redo();
}

void Life::change_a_file() {
  const auto& file = returns_[size_t(below(int(returns_.size())))];
  test::save(file, test::with_noise(test::scaled(sound_, between(0.3, 1)), between(1e-5, 1e-2), uint64_t(steps_)), rate,
             WordFormat::pcm24);
  ++files_changed_;
}

void Life::press_a_key() {
  static constexpr Qt::Key keys[] = {Qt::Key_Tab,  Qt::Key_Up,     Qt::Key_Down,     Qt::Key_Left,   Qt::Key_Right,
                                     Qt::Key_Plus, Qt::Key_Minus,  Qt::Key_Return,   Qt::Key_Escape, Qt::Key_Space,
                                     Qt::Key_0,    Qt::Key_PageUp, Qt::Key_PageDown, Qt::Key_Home};
  QWidget* to = window_->focusWidget() ? window_->focusWidget() : window_.get();
  const auto with = below(4) ? Qt::NoModifier : Qt::ShiftModifier;
  const Qt::Key key = keys[below(int(std::size(keys)))];
  last_ += QString(": %1 on %2").arg(QKeySequence(key).toString(), to->metaObject()->className());
  QTest::keyClick(to, key, with);
}

void Life::turn_a_wheel() {
  QList<Plate*> seen;
  for (Plate* plate : window_->findChildren<Plate*>())
    if (plate->isVisible() && !plate->size().isEmpty()) seen << plate;
  if (seen.isEmpty()) return;
  Plate* plate = seen[below(int(seen.size()))];
  const QPoint at(below(plate->width()), below(plate->height()));
  const auto with = below(3) ? Qt::NoModifier : Qt::ShiftModifier;
  last_ += ": on " + plate->title();
  if (below(2)) {
    QWheelEvent turned(at, plate->mapToGlobal(at), {}, {0, below(2) ? 240 : -240}, Qt::NoButton, with,
                       Qt::NoScrollPhase, false);
    QApplication::sendEvent(plate, &turned);
  } else {
    const QPoint to(below(plate->width()), below(plate->height()));
    QTest::mousePress(plate, Qt::LeftButton, with, at);
    QTest::mouseMove(plate, to);
    QTest::mouseRelease(plate, Qt::LeftButton, with, to);
  }
}

void Life::change_the_window() {
  static constexpr std::array<std::pair<int, int>, 3> sizes{{{1024, 700}, {1280, 800}, {1920, 1080}}};
  if (below(2))
    window_->set_night(below(2));
  else if (const auto [wide, high] = sizes[size_t(below(3))]; true)
    window_->resize(wide, high);
}

void Life::pull_or_plug_the_device() {
  if (*plug_) {
    *plug_ = false;
    ++devices_lost_;
    return;
  }
  plug_ = std::make_shared<std::atomic<bool>>(true);
  window_->player().set_device(std::make_unique<FrailDevice>(plug_));
}

bool Life::rest() {
  return QTest::qWaitFor([this] { return !window_->workspace().queue().is_busy(); }, 120000);
}

std::vector<QString> Life::check() {
  ++checks_;
  if (!rest())
    return {QString("after %1 steps, the last of them %2, something still ran two minutes on").arg(steps_).arg(last_)};
  let_live(100);
  auto faults = unlike_numbers(*window_);
  for (const QString& fault : std::exchange(seen_wrong_, {}) + test::lasting_faults_of(*window_))
    faults.push_back(QString("%1, %2 x %3: %4").arg(last_).arg(window_->width()).arg(window_->height()).arg(fault));
  const Player& player = window_->player();
  if (player.is_playing() && !player.device().lost().empty())
    faults.push_back("it plays through a device that is gone");
  return faults;
}

std::vector<QString> Life::end() {
  std::vector<QString> faults;
  auto& stack = window_->workspace().model().undo_stack();
  while (stack.canUndo()) stack.undo();
  if (const std::string now = bench_text(window_->workspace().bench()); now != first_bench_)
    faults.push_back("with everything taken back the bench is not what it was:\n" +
                     QString::fromStdString(Json::diff(Json::parse(first_bench_), Json::parse(now)).dump()));
  rest();
  for (const QString& fault : unlike_numbers(*window_)) faults.push_back(fault);
  closer_.stop();
  stack.setClean();
  window_.reset();
  return faults;
}

}  // namespace heathmist::soak

#include "app/pages/null/chain_strip.hpp"

#include <QHBoxLayout>
#include <QKeyEvent>
#include <QScrollArea>
#include <QScrollBar>
#include <QVBoxLayout>

#include "app/theme/theme.hpp"
#include "app/widgets/terms.hpp"
#include "core/bench/armed.hpp"

namespace heathmist::app {

namespace {

QLabel* soft(const QString& text, QWidget* parent) {
  auto* label = new QLabel(text, parent);
  label->setFont(face(Type::small));
  label->setProperty("soft", true);
  return label;
}

QToolButton* tool(const QString& text, const QString& hint, QWidget* parent) {
  auto* button = new QToolButton(parent);
  button->setText(text);
  button->setToolTip(hint);
  button->setAccessibleName(hint);
  button->setFont(face(Type::small));
  return button;
}

QString doing_of(Capability capability) {
  return capability == Capability::run_program   ? QObject::tr("run a program")
         : capability == Capability::load_plugin ? QObject::tr("load a plug-in")
                                                 : QObject::tr("keep a file");
}

QString bytes(int64_t count) {
  return count >= 10000000 ? QObject::tr("%1 MB").arg(number(double(count) / 1e6, 1))
                           : QObject::tr("%1 kB").arg(number(double(count) / 1e3, 0));
}

}  // namespace

ChainStrip::ChainStrip(QWidget* parent) : QFrame(parent) {
  setObjectName("chain");
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(0, 4, 0, 2);
  rows->setSpacing(0);
  auto* head = new QHBoxLayout;
  head->setContentsMargins(12, 0, 8, 0);
  head->setSpacing(4);
  head->addWidget(soft(tr("Chain"), this));
  auto* scroll = new QScrollArea(this);
  scroll->setAccessibleName(tr("The stages of the chain"));
  scroll->setWidgetResizable(true);
  scroll->setHorizontalScrollBarPolicy(Qt::ScrollBarAsNeeded);
  scroll->setVerticalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
  scroll->setFrameShape(QFrame::NoFrame);
  scroll->setFixedHeight(36);
  stages_ = new QWidget(scroll);
  stage_row_ = new QHBoxLayout(stages_);
  stage_row_->setContentsMargins(4, 0, 4, 0);
  stage_row_->setSpacing(2);
  scroll->setWidget(stages_);
  head->addWidget(scroll, 1);
  rounds_ = new QSpinBox(this);
  set_term(rounds_, "rounds");
  rounds_->setRange(1, 100);
  rounds_->setPrefix(QString::fromUtf8("× "));
  rounds_->setKeyboardTracking(false);
  rounds_->setToolTip(tr("How many times everything goes through the chain"));
  rounds_->setAccessibleName(tr("Rounds"));
  connect(rounds_, &QSpinBox::valueChanged, this, [this](int rounds) {
    chain_.rounds = rounds;
    tell(tr("Change the rounds"));
  });
  head->addWidget(rounds_);
  auto* more = tool(tr("Use and keep"), tr("Keep this chain, use a kept one, run it on every master"), this);
  more->setPopupMode(QToolButton::InstantPopup);
  menu_ = new QMenu(this);
  more->setMenu(menu_);
  connect(menu_, &QMenu::aboutToShow, this, &ChainStrip::fill_menu);
  head->addWidget(more);
  rows->addLayout(head);

  tools_ = new QWidget(this);
  auto* tools = new QHBoxLayout(tools_);
  tools->setContentsMargins(12, 2, 8, 0);
  tools->setSpacing(2);
  on_ = tool(tr("on"), tr("This stage on or off"), tools_);
  on_->setCheckable(true);
  earlier_ = tool(QString(QChar(0x2190)), tr("Earlier in the chain (Alt+Left)"), tools_);
  later_ = tool(QString(QChar(0x2192)), tr("Later in the chain (Alt+Right)"), tools_);
  remove_ = tool(tr("remove"), tr("Take this stage out (Delete)"), tools_);
  for (QToolButton* button : {on_, earlier_, later_, remove_}) tools->addWidget(button);
  disarmed_ = new QLabel(tools_);
  disarmed_->setFont(face(Type::small));
  arm_ = new QPushButton(tr("Arm…"), tools_);
  arm_->setObjectName("armStage");
  arm_->setFont(face(Type::small));
  arm_->setToolTip(tr("See the whole of what this stage would do, and allow it on this machine"));
  connect(arm_, &QPushButton::clicked, this, [this] {
    if (chosen_ >= 0) emit arm_wanted(chain_.stages[size_t(chosen_)]);
  });
  tools->addSpacing(10);
  tools->addWidget(disarmed_);
  tools->addWidget(arm_);
  report_ = soft("", tools_);
  tools->addWidget(report_, 1);
  connect(on_, &QToolButton::clicked, this, &ChainStrip::switch_stage);
  connect(earlier_, &QToolButton::clicked, this, [this] { move_stage(-1); });
  connect(later_, &QToolButton::clicked, this, [this] { move_stage(1); });
  connect(remove_, &QToolButton::clicked, this, &ChainStrip::remove_stage);
  rows->addWidget(tools_);
  form_ = new StageForm(this);
  rows->addWidget(form_);
  connect(form_, &StageForm::changed, this, [this](const Stage& stage) {
    if (chosen_ < 0 || chain_.stages[size_t(chosen_)].type != stage.type) return;
    chain_.stages[size_t(chosen_)] = stage;
    grant_ = grant_here();
    dress_button(buttons_[size_t(chosen_)], stage);
    choose(chosen_);
    tell(tr("Change the %1").arg(QString::fromStdString(stage_type(stage.type)->title).toLower()));
  });
  auto dress = [this] {
    setStyleSheet(
        QString("#chain { border-bottom: 1px solid %1; } #stage { border: 1px solid %6; background: %2; padding: 2px "
                "8px; min-height: 22px; } "
                "#stage:checked { border: 1px solid %3; background: %4; } #stage:focus { border: 1px solid %5; }")
            .arg(colour(Role::rule).name(), colour(Role::sheet).name(), colour(Role::ink).name(),
                 colour(Role::faint).name(), colour(Role::master).name(), colour(Role::edge).name()));
  };
  connect(&Theme::instance(), &Theme::changed, this, dress);
  dress();
}

void ChainStrip::show_chain(const Chain& chain) {
  if (chain == chain_ && !buttons_.empty()) return;
  const bool fresh = chain.stages.size() != chain_.stages.size() || chosen_ < 0;
  chain_ = chain;
  const QSignalBlocker quiet(rounds_);
  rounds_->setValue(chain_.rounds);
  chosen_ = std::min(chosen_, int(chain_.stages.size()) - 1);
  if (fresh && chosen_ < 0 && !chain_.stages.empty()) chosen_ = 0;
  const auto disarmed = disarmed_stages(chain_, grant_here());  // what has to be decided is shown first
  if (!disarmed.empty()) chosen_ = int(disarmed.front() - chain_.stages.data());
  rebuild();
}

void ChainStrip::show_reports(const std::vector<StageReport>& stages) {
  QStringList words;
  for (const StageReport& s : stages) {
    if (!s.note.empty()) words << QString::fromStdString(s.note);
    if (s.encoded_bytes) words << tr("encoded %1").arg(bytes(*s.encoded_bytes));
    if (s.bit_rate_bps) words << tr("%1 kbit/s").arg(number(double(*s.bit_rate_bps) / 1000, 1));
    if (s.delay_samples.value_or(0)) words << tr("encoder delay %1 samples").arg(*s.delay_samples);
  }
  report_->setText(words.join(QString::fromUtf8(" · ")));
}

/// A stage's button: what it is, struck through where it is off, and whether it may run here.
void ChainStrip::dress_button(QToolButton* button, const Stage& stage) {
  QFont font = face(Type::body);
  font.setStrikeOut(!stage.on);
  button->setFont(font);
  const bool armed = !capability_of(stage) || grant_(stage);
  const QString words = QString::fromStdString(label_of(stage));
  button->setText(armed ? words : tr("%1 (disarmed)").arg(words));
}

void ChainStrip::rebuild() {
  grant_ = grant_here();
  while (QLayoutItem* item = stage_row_->takeAt(0)) {
    if (item->widget()) item->widget()->deleteLater();
    delete item;
  }
  buttons_.clear();
  for (size_t n = 0; n < chain_.stages.size(); ++n) {
    const Stage& stage = chain_.stages[n];
    if (n > 0) {
      auto* arrow = soft(QString(QChar(0x203a)), stages_);
      arrow->setMinimumWidth(arrow->fontMetrics().horizontalAdvance(arrow->text()) + 4);
      stage_row_->addWidget(arrow);
    }
    auto* button = new QToolButton(stages_);
    button->setObjectName("stage");
    button->setCheckable(true);
    dress_button(button, stage);
    button->setToolTip(stage_type(stage.type) ? QString::fromStdString(stage_type(stage.type)->what)
                                              : tr("There is no such stage"));
    button->installEventFilter(this);
    connect(button, &QToolButton::clicked, this, [this, n] { choose(int(n)); });
    stage_row_->addWidget(button);
    buttons_.push_back(button);
  }
  auto* add = tool(tr("+ stage"), tr("Add a stage behind the chosen one"), stages_);
  add->setPopupMode(QToolButton::InstantPopup);
  auto* types = new QMenu(add);
  for (const StageType& t : stage_types()) {
    auto* action = types->addAction(QString::fromStdString(t.title), this, [this, type = t.type] { add_stage(type); });
    action->setToolTip(QString::fromStdString(t.what));
  }
  types->setToolTipsVisible(true);
  add->setMenu(types);
  add->setObjectName("addStage");
  stage_row_->addWidget(add);
  stage_row_->addStretch();
  choose(chosen_);
}

void ChainStrip::choose(int index) {
  chosen_ = index;
  for (size_t n = 0; n < buttons_.size(); ++n) buttons_[n]->setChecked(int(n) == index);
  const bool any = index >= 0 && index < int(chain_.stages.size());
  for (QToolButton* button : {on_, earlier_, later_, remove_}) button->setVisible(any);
  form_->setVisible(any);
  const bool disarmed = any && capability_of(chain_.stages[size_t(index)]) && !grant_(chain_.stages[size_t(index)]);
  disarmed_->setVisible(disarmed);
  arm_->setVisible(disarmed);
  if (!any) return;
  if (disarmed)
    disarmed_->setText(tr("Disarmed: it would %1, and has not been allowed to here.")
                           .arg(doing_of(*capability_of(chain_.stages[size_t(index)]))));
  const Stage& stage = chain_.stages[size_t(index)];
  on_->setChecked(stage.on);
  earlier_->setEnabled(index > 0);
  later_->setEnabled(index + 1 < int(chain_.stages.size()));
  form_->show_stage(stage);
}

void ChainStrip::tell(const QString& what) { emit changed(chain_, what); }

void ChainStrip::add_stage(const std::string& type) {
  const int place = std::min(chosen_ + 1, int(chain_.stages.size()));
  chain_.stages.insert(chain_.stages.begin() + place, Stage{type});
  chosen_ = place;
  rebuild();
  tell(tr("Add a stage"));
}

void ChainStrip::move_stage(int by) {
  const int to = chosen_ + by;
  if (chosen_ < 0 || to < 0 || to >= int(chain_.stages.size())) return;
  std::swap(chain_.stages[size_t(chosen_)], chain_.stages[size_t(to)]);
  chosen_ = to;
  rebuild();
  buttons_[size_t(to)]->setFocus();
  tell(tr("Move a stage"));
}

void ChainStrip::remove_stage() {
  if (chosen_ < 0) return;
  chain_.stages.erase(chain_.stages.begin() + chosen_);
  chosen_ = std::min(chosen_, int(chain_.stages.size()) - 1);
  rebuild();
  tell(tr("Take a stage out"));
}

void ChainStrip::switch_stage(bool on) {
  if (chosen_ < 0) return;
  chain_.stages[size_t(chosen_)].on = on;
  rebuild();
  tell(on ? tr("Switch a stage on") : tr("Switch a stage off"));
}

bool ChainStrip::eventFilter(QObject* watched, QEvent* event) {
  if (event->type() != QEvent::KeyPress) return QFrame::eventFilter(watched, event);
  const auto place = std::find(buttons_.begin(), buttons_.end(), watched);
  if (place == buttons_.end()) return false;
  const auto* key = static_cast<QKeyEvent*>(event);
  const int at = int(place - buttons_.begin());
  const int by = key->key() == Qt::Key_Left ? -1 : key->key() == Qt::Key_Right ? 1 : 0;
  if (by && key->modifiers() & Qt::AltModifier) {
    choose(at);
    move_stage(by);
    return true;
  }
  if (by && at + by >= 0 && at + by < int(buttons_.size())) {
    choose(at + by);
    buttons_[size_t(at + by)]->setFocus();
    return true;
  }
  if (key->key() == Qt::Key_Delete) {
    choose(at);
    remove_stage();
    return true;
  }
  return by != 0;
}

void ChainStrip::fill_menu() {
  menu_->clear();
  auto command = [this](const QString& text, Command w) {
    menu_->addAction(text, this, [this, w] { emit commanded(w); });
  };
  command(tr("Keep this chain on the bench…"), Command::keep);
  auto* use = menu_->addMenu(tr("Use a kept chain"));
  for (const Chain& chain : kept_)
    use->addAction(QString::fromStdString(title_of(chain)), this, [this, chain] {
      Chain used = chain;
      used.name.clear();
      show_chain(used);
      tell(tr("Use a kept chain"));
    });
  auto* rename = menu_->addMenu(tr("Rename a kept chain"));
  auto* drop = menu_->addMenu(tr("Drop a kept chain"));
  for (const Chain& chain : kept_) {
    const QString title = QString::fromStdString(title_of(chain));
    rename->addAction(title + QChar(0x2026), this, [this, chain] { emit rename_wanted(chain); });
    drop->addAction(title, this, [this, chain] { emit drop_wanted(chain); });
  }
  for (QMenu* menu : {use, rename, drop}) menu->setEnabled(!kept_.empty());
  command(tr("Run this chain on every master"), Command::run_on_all);
  command(tr("Compare generations, round by round"), Command::generations);
  menu_->addSeparator();
  command(tr("Read a chain from JSON…"), Command::read);
  command(tr("Write this chain as JSON…"), Command::write);
  command(tr("Write the return as a file…"), Command::write_return);
}

}  // namespace heathmist::app

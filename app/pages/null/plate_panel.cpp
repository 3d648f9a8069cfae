#include "app/pages/null/plate_panel.hpp"

#include <QActionGroup>
#include <QHeaderView>
#include <QMenu>
#include <QVBoxLayout>
#include <cmath>

#include "app/theme/position.hpp"
#include "app/theme/theme.hpp"
#include "app/widgets/labels.hpp"
#include "app/widgets/terms.hpp"

namespace heathmist::app {

namespace {

QToolButton* menu_button(const QString& hint, QMenu* menu, QWidget* parent) {
  auto* button = new QToolButton(parent);
  button->setFont(face(Type::small));
  button->setPopupMode(QToolButton::InstantPopup);
  button->setMenu(menu);
  button->setToolTip(hint);
  button->setAccessibleName(hint);
  return button;
}

std::pair<QVBoxLayout*, QHBoxLayout*> column(QWidget* page, const QMargins& margins) {
  auto* rows = new QVBoxLayout(page);
  rows->setContentsMargins(margins);
  rows->setSpacing(2);
  auto* head = new QHBoxLayout;
  head->setSpacing(4);
  rows->addLayout(head);
  return {rows, head};
}

}  // namespace

PlatePanel::PlatePanel(QWidget* parent) : QWidget(parent) {
  auto* columns = new QHBoxLayout(this);
  columns->setContentsMargins(0, 0, 0, 0);
  columns->setSpacing(0);
  columns->addWidget(make_left(), 1);
  columns->addWidget(make_right(), 1);
}

QWidget* PlatePanel::make_left() {
  auto* page = new QWidget(this);
  const auto [rows, head] = column(page, QMargins(12, 6, 0, 6));
  left_ = new Chooser(page);
  causes_ = new BudgetPlate;
  spectra_ = new SpectrumPlate;
  path_ = new PathPlate;
  stack_ = new LinesPlate("stack", tr("What the residual is made of: linear part, remainder and floor over frequency"));
  stack_->set_unit(tr("dBFS"));
  set_term(stack_, "remainder");
  words_ = new WordsPlate;
  course_ = new CoursePlate;
  left_->add(tr("Causes"), tr("What the residual is made of, cause by cause (Alt+1)"), causes_);
  left_->add(tr("Spectra"), tr("Spectra of master, return and residual (Alt+2)"), spectra_);
  left_->add(tr("Response"), tr("What a filter did between master and return (Alt+3)"), path_);
  left_->add(tr("Split"), tr("Linear part and remainder over frequency (Alt+4)"), stack_);
  left_->add(tr("Bits"), tr("Word length: codes and bits (Alt+5)"), words_);
  left_->add(tr("Over time"), tr("Gain and used bits over time (Alt+6)"), course_);
  head->addWidget(left_);
  head->addStretch(1);
  make_menus(head);
  rows->addWidget(left_->pages(), 1);
  connect(left_, &Chooser::chosen, this, [this](int now) {
    for (QWidget* tool : causes_tools_) tool->setVisible(now == causes_page);
    for (QWidget* tool : spectra_tools_) tool->setVisible(now == spectra_page);
    for (QWidget* tool : path_tools_) tool->setVisible(now == path_page);
  });
  for (QWidget* tool : causes_tools_) tool->setVisible(left_->index() == causes_page);
  for (QWidget* tool : spectra_tools_) tool->setVisible(left_->index() == spectra_page);
  for (QWidget* tool : path_tools_) tool->setVisible(left_->index() == path_page);
  connect(causes_, &BudgetPlate::cause_chosen, this, &PlatePanel::show_cause);
  for (FrequencyPlate* plate : {static_cast<FrequencyPlate*>(spectra_), static_cast<FrequencyPlate*>(path_),
                                static_cast<FrequencyPlate*>(stack_)}) {
    connect(plate, &FrequencyPlate::band_selected, this, &PlatePanel::band_selected);
    connect(plate, &FrequencyPlate::band_cleared, this, &PlatePanel::band_cleared);
  }
  return page;
}

QWidget* PlatePanel::make_right() {
  auto* page = new QWidget(this);
  const auto [rows, head] = column(page, QMargins(12, 6, 6, 6));
  right_ = new Chooser(page);
  depth_ = new DepthPlate;
  mask_ = new DepthPlate;
  tied_ = new QAction(tr("Tie the time of the maps to the lanes"), this);
  tied_->setCheckable(true);
  make_tables();
  right_->add(tr("Depth"), tr("How far the residual lies under the master (Alt+7)"), make_map(depth_));
  right_->add(tr("Mask"), tr("A hint at what the programme masks, after ISO 11172-3 model 1 (Alt+8)"), make_map(mask_));
  right_->add(tr("Events"), tr("Breaks, overs and the closest moments (Alt+9)"), moments_);
  right_->add(tr("Third octaves"), tr("Depth by third octave (Alt+0)"), thirds_);
  head->addWidget(right_);
  legend_ = soft_label({}, page);
  legend_->setAlignment(Qt::AlignRight | Qt::AlignVCenter);
  legend_->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Preferred);
  head->addWidget(legend_, 1);
  tie_maps(true);
  connect(tied_, &QAction::toggled, this, &PlatePanel::tie_maps);
  connect(&Theme::instance(), &Theme::changed, this, [this] { tie_maps(maps_are_tied()); });
  rows->addWidget(right_->pages(), 1);
  connect(right_, &Chooser::chosen, this, [this](int now) { tell_unit(now); });
  const auto go = [this](size_t n) {
    if (told_moments_[n].at_s) emit jump(*told_moments_[n].at_s);
  };
  connect(moments_, &ResultTable::opened, this, go);
  connect(moments_, &QAbstractItemView::clicked, this,
          [this, go](const QModelIndex& at) { go(moments_->row_at(at.row())); });
  return page;
}

/// With what ties it to the lanes, in the corner under the colours.
QWidget* PlatePanel::make_map(DepthPlate* map) {
  auto* page = new QWidget;
  auto* both = new QGridLayout(page);
  both->setContentsMargins(0, 0, 0, 0);
  both->addWidget(map, 0, 0);
  auto* button = new QToolButton(page);
  button->setCheckable(true);
  button->setAccessibleName(tied_->text());
  button->setFixedSize(28, 28);
  connect(button, &QToolButton::toggled, tied_, &QAction::setChecked);
  const auto follow = [this, button] {
    button->setChecked(tied_->isChecked());
    button->setIcon(tied_->icon());
    button->setToolTip(tied_->toolTip());
  };
  connect(tied_, &QAction::changed, button, follow);
  follow();
  both->addWidget(button, 0, 0, Qt::AlignRight | Qt::AlignBottom);
  page->setFocusProxy(map);
  connect(map, &DepthPlate::clicked, this, &PlatePanel::cell_chosen);
  connect(map, &DepthPlate::selected, this, &PlatePanel::area_selected);
  connect(map, &DepthPlate::cleared, this, &PlatePanel::area_cleared);
  connect(map, &DepthPlate::range_wanted, this, [this](double from, double to) {
    if (maps_are_tied())
      emit range_wanted(from, to);
    else
      range_maps(from, to);
  });
  return page;
}

void PlatePanel::tie_maps(bool tied) {
  tied_->setChecked(tied);
  tied_->setIcon(icon(tied ? "tied" : "untied", Role::ink));
  tied_->setToolTip(tied ? tr("The maps show the time that the lanes show. Press to zoom them by themselves.")
                         : tr("The maps are zoomed by themselves. Press to tie them to the lanes."));
  if (tied) range_maps(lanes_range_.first, lanes_range_.second);
}

void PlatePanel::range_maps(double from_s, double to_s) {
  depth_->set_range(from_s, to_s);
  mask_->set_range(from_s, to_s);
}

void PlatePanel::make_tables() {
  const auto level = [this](double DepthBand::*of) {
    return [this, of](size_t n) {
      const double power = told_thirds_[n].*of;
      return power > 0 ? number_cell(10 * std::log10(power), 1) : Cell{tr("none")};
    };
  };
  moments_ = new ResultTable(tr("Moments to jump to: breaks, overs, and where the residual comes closest"), this);
  moments_->set_columns(
      {{tr("At"),
        {},
        [this](size_t n) {
          const auto at = told_moments_[n].at_s;
          return Cell{at ? position(*at) : QString(), at};
        },
        false,
        Column::as_content,
        "time"},
       {tr("What"), {}, [this](size_t n) { return Cell{told_moments_[n].what}; }},
       {tr("dB"),
        {},
        [this](size_t n) {
          const auto db = told_moments_[n].db;
          return db ? Cell{(*db > 0 ? "+" : "") + number(*db, 1), db} : Cell{};
        },
        true,
        Column::as_content,
        "depth"},
       {tr("Around"), {}, [this](size_t n) { return Cell{told_moments_[n].around}; }, false, Column::stretch}});
  thirds_ = new ResultTable(tr("Depth by third octave"), this);
  thirds_->set_columns({{tr("Third octave"),
                         {},
                         [this](size_t n) {
                           return Cell{hertz(told_thirds_[n].centre_hz, false), told_thirds_[n].centre_hz};
                         },
                         false,
                         Column::as_content,
                         "frequency"},
                        {tr("Master"), tr("dBFS"), level(&DepthBand::master), true, Column::as_content, "level", 2},
                        {tr("Residual"), tr("dBFS"), level(&DepthBand::residual), true, Column::as_content, "level", 1},
                        {tr("Under"), tr("How far the residual lies under the master, dB"),
                         [this](size_t n) {
                           const auto db = told_thirds_[n].depth_db;
                           return db ? number_cell(-*db, 1, tr(" dB")) : Cell{tr("nothing left")};
                         },
                         true, Column::stretch, "depth"}});
  for (ResultTable* table : {moments_, thirds_}) {
    table->setSelectionMode(QAbstractItemView::SingleSelection);
    table->verticalHeader()->setDefaultSectionSize(22);
  }
}

void PlatePanel::make_menus(QHBoxLayout* head) {
  auto* drawn = new QMenu(this);
  auto* drawn_button = menu_button(tr("How the spectra are drawn: smoothing, resolution, scales"), drawn, this);
  auto* smoothing = drawn->addMenu(tr("Smoothing"));
  auto* resolution = drawn->addMenu(tr("Points of the transform"));
  auto* scale = drawn->addMenu(tr("Scales"));
  auto* along = new QMenu(this);
  auto* along_button =
      menu_button(tr("What the causes are drawn along: of the whole, by octave, over time"), along, this);
  auto tell_drawn = [this, drawn_button](const QString&) {
    drawn_button->setText((smoothing_ ? tr("1/%1 octave").arg(smoothing_) : tr("unsmoothed")) +
                          (relative_ ? tr(", relative") : QString()));
  };
  auto* lower = new QMenu(this);
  auto* lower_button = menu_button(tr("What stands under the magnitude"), lower, this);
  auto choose = [this](QMenu* menu, const std::function<void(const QString&)>& tell, const QString& name,
                       const QString& setting, bool now, const std::function<void()>& take) {
    auto* action = menu->addAction(name, this, [=] {
      take();
      tell(name);
    });
    action->setCheckable(true);
    if (!menu->findChild<QActionGroup*>()) new QActionGroup(menu);
    menu->findChild<QActionGroup*>()->addAction(action);
    action->setChecked(now);
    if (now) tell(name);
    action->setProperty("setting", setting);
    actions_.push_back(action);
  };
  for (const auto& [name, value] : {std::pair{tr("no smoothing"), 0},
                                    {tr("1/3 octave"), 3},
                                    {tr("1/6 octave"), 6},
                                    {tr("1/12 octave"), 12},
                                    {tr("1/24 octave"), 24},
                                    {tr("1/48 octave"), 48}})
    choose(smoothing, tell_drawn, name, QString("smoothing %1").arg(value), value == smoothing_,
           [this, v = value] { smoothing_ = v, draw_spectra(); });
  for (const size_t size : {4096, 16384, 65536, 262144})
    choose(resolution, tell_drawn, tr("%1 points").arg(size), QString("points %1").arg(size), size == fft_size_,
           [this, size] { fft_size_ = size, emit resolution_changed(); });
  for (const auto& [name, value] : {std::pair{tr("phase"), PathPlate::Lower::phase},
                                    {tr("group delay"), PathPlate::Lower::group_delay},
                                    {tr("coherence"), PathPlate::Lower::coherence}})
    choose(
        lower, [this, lower_button](const QString& words) { lower_button->setText(words); }, name,
        QString("path %1").arg(int(value)), value == PathPlate::Lower::phase,
        [this, v = value] { path_->set_lower(v); });
  for (const auto& [name, value] : {std::pair{tr("of the whole"), BudgetPlate::Along::whole},
                                    {tr("by octave"), BudgetPlate::Along::octaves},
                                    {tr("over time"), BudgetPlate::Along::time}})
    choose(
        along, [this, along_button](const QString& words) { along_button->setText(words); }, name,
        QString("causes %1").arg(int(value)), value == BudgetPlate::Along::whole,
        [this, v = value] { causes_->draw_along(v); });
  for (const auto& [name, setting, field, value] :
       {std::tuple{tr("logarithmic frequency"), "logarithmic 1", &PlatePanel::logarithmic_, true},
        {tr("linear frequency"), "logarithmic 0", &PlatePanel::logarithmic_, false},
        {tr("absolute level"), "relative 0", &PlatePanel::relative_, false},
        {tr("relative to master"), "relative 1", &PlatePanel::relative_, true}}) {
    actions_.push_back(scale->addAction(name, this, [this, tell_drawn, f = field, v = value] {
      this->*f = v;
      tell_drawn({});
      draw_spectra();
    }));
    actions_.back()->setProperty("setting", setting);
  }
  tell_drawn({});
  causes_tools_ = {along_button};
  spectra_tools_ = {drawn_button};
  path_tools_ = {lower_button};
  for (QWidget* tool : {along_button, drawn_button, lower_button}) head->addWidget(tool);
  lower_button->hide();
}

/// Of the colours at the right: in words where there is room for them beside the names of the plates.
void PlatePanel::tell_unit(int page) {
  legend_->setVisible(width() > 900);  // the map says it too
  legend_->setText(page == depth_page  ? tr("under master, dB")
                   : page == mask_page ? tr("over mask, dB: a hint")
                                       : QString());
}

nlohmann::ordered_json PlatePanel::settings() const {
  return {{"causes", int(causes_->along())},  {"points", fft_size_},        {"smoothing", smoothing_},
          {"logarithmic", int(logarithmic_)}, {"relative", int(relative_)}, {"maps tied", int(maps_are_tied())}};
}

void PlatePanel::restore(const nlohmann::ordered_json& settings) {
  const auto tied = settings.find("maps tied");
  tie_maps(tied == settings.end() || *tied != 0);
  for (const auto& [key, value] : settings.items())
    if (value.is_number_integer())
      for (QAction* action : actions_)
        if (action->property("setting") == QString("%1 %2").arg(QString::fromStdString(key)).arg(value.get<int>()))
          action->trigger();
}

void PlatePanel::show_sums(const TrialResult& trial, std::shared_ptr<const ResidualSums> sums, bool narrowed) {
  sums_ = std::move(sums);
  why_ = trial.why;
  spectra_->set_scope(narrowed ? tr("of the selection") : QString());
  draw_spectra();
  fill_thirds(*sums_);
}

void PlatePanel::show_trial(const TrialResult& trial) {
  why_ = trial.why;
  depth_->show_cells(trial.report->sums.depth);
  if (trial.report->explained)
    causes_->show_steps(budget_steps(*trial.report));
  else
    causes_->show_nothing(trial.report->fit.trusted && trial.report->sums.residual > 0
                              ? tr("Being worked out…")
                              : tr("Nothing is left that a cause could explain"));
  if (trial.why) {
    path_->show_path(trial.why->bands);
    words_->show_words(trial.why->master.words, trial.why->ret.words);
    course_->show_course(trial.why->gain, trial.why->master.words, trial.why->ret.words);
    mask_->show_mask(trial.why->mask);
  } else {
    path_->show_path({});
    words_->show_words({}, {});
    course_->show_course({}, {}, {});
    mask_->show_nothing(tr("Being worked out…"));
  }
  draw_stack();
  fill_moments(trial);
}

void PlatePanel::draw_spectra() {
  if (!sums_ || sums_->master_spectrum.power.empty()) return;
  const auto& s = *sums_;
  const double top = s.master_spectrum.bin_hz * double(s.master_spectrum.power.size() - 1),
               bottom = logarithmic_ ? 20 : 0;
  auto line = [&](const Spectrum& spectrum) { return smoothed(spectrum, bottom, top, 900, logarithmic_, smoothing_); };
  SpectraShown shown{
      line(s.master_spectrum), line(s.return_spectrum), line(s.residual_spectrum), {}, {}, logarithmic_, relative_, {}};
  shown.ret_relative = relative_to(shown.ret, shown.master);
  shown.residual_relative = relative_to(shown.residual, shown.master);
  if (why_ && why_->floor) shown.floor = line(on_bins_of(*why_->floor, s.residual_spectrum));
  spectra_->show_spectra(shown);
}

void PlatePanel::draw_stack() {
  stack_->show_lines([why = why_] {
    std::vector<NamedLine> lines;
    if (!why || why->split.empty()) return lines;
    const auto& s = why->split;
    const double top = s.master.bin_hz * double(s.master.power.size() - 1);
    auto add = [&](const QString& name, const Spectrum& spectrum, Role role, Qt::PenStyle style, bool filled,
                   double width) {
      const auto line = smoothed(spectrum, 20, top, 500, true, 12);
      lines.push_back({name, line.hz, line.db, colour(role), style, filled, width});
    };
    add(tr("master"), s.master, Role::master, Qt::SolidLine, false, 1.0);
    add(tr("remainder"), s.remainder, Role::residual, Qt::SolidLine, true, 1.0);
    add(tr("level, EQ, phase"), s.linear, Role::ink, Qt::DashLine, false, 1.3);
    if (why->floor)
      add(tr("floor of the route"), on_bins_of(*why->floor, s.master), Role::soft, Qt::DotLine, false, 1.3);
    return lines;
  });
}

/// Goes to the place of a cause that has one, and has it heard; chosen again, it is let go.
void PlatePanel::show_cause(int step, bool without) {
  const BudgetStep chosen = causes_->steps()[size_t(step)];
  const bool again = step == causes_->heard() && without == without_is_heard_;
  const bool let_go = again || chosen.part.what == CausePart::none;
  without_is_heard_ = without;
  causes_->mark_heard(let_go ? -1 : step);
  emit part_chosen(let_go ? nullptr : &chosen, without);
  if (!let_go && chosen.from_s) emit jump(*chosen.from_s);
}

void PlatePanel::fill_moments(const TrialResult& trial) {
  told_moments_.clear();
  if (!trial.why) {
    told_moments_.push_back({{}, tr("being worked out…")});
    return moments_->set_rows(1);
  }
  for (const Break& b : trial.why->continuity.breaks)
    told_moments_.push_back({b.at_s,
                             b.kind == BreakKind::dropout ? tr("drops out")
                             : b.kind == BreakKind::skip  ? tr("skips")
                                                          : tr("too much"),
                             {},
                             tr("%1 ms").arg(number(1000 * b.length_s, 1))});
  for (const CloseMoment& m : trial.why->closest)
    told_moments_.push_back({m.at_s, tr("closest"), m.depth_db, band_text(m.low_hz, m.high_hz)});
  size_t told = 0;
  for (const Over& o : trial.why->ret.overs)
    if (told++ < 100) told_moments_.push_back({o.at_s, tr("over 0 dBTP"), o.dbtp, tr("channel %1").arg(o.channel + 1)});
  if (told_moments_.empty()) told_moments_.push_back({{}, tr("nothing to jump to")});
  moments_->set_rows(told_moments_.size());
}

void PlatePanel::fill_thirds(const ResidualSums& sums) {
  told_thirds_ = third_octave_depth(sums);
  thirds_->set_rows(told_thirds_.size());
}

void PlatePanel::reveal(Evidence evidence) {
  switch (evidence) {
    case Evidence::spectra:
      left_->choose(spectra_page);
      return spectra_->setFocus();
    case Evidence::path:
      left_->choose(path_page);
      return path_->setFocus();
    case Evidence::parts:
      left_->choose(stack_page);
      return stack_->setFocus();
    case Evidence::words:
      left_->choose(words_page);
      return words_->setFocus();
    case Evidence::course:
      left_->choose(course_page);
      return course_->setFocus();
    case Evidence::depth:
      right_->choose(depth_page);
      return depth_->setFocus();
    case Evidence::mask:
      right_->choose(mask_page);
      return mask_->setFocus();
    default:
      return;
  }
}

void PlatePanel::resizeEvent(QResizeEvent* event) {
  QWidget::resizeEvent(event);
  left_->set_brief(event->size().width() < 720);
  tell_unit(right_->index());
}

void PlatePanel::set_range(double from_s, double to_s, bool anew) {
  lanes_range_ = {from_s, to_s};
  course_->set_range(from_s, to_s);
  if (anew || maps_are_tied()) range_maps(from_s, to_s);
}

void PlatePanel::set_playhead(double at_s) {
  depth_->set_playhead(at_s);
  mask_->set_playhead(at_s);
}

void PlatePanel::set_selection(std::optional<std::pair<double, double>> seconds,
                               std::optional<std::pair<double, double>> hz) {
  for (DepthPlate* plate : {depth_, mask_}) plate->set_frame(seconds, hz);
  for (FrequencyPlate* plate : {static_cast<FrequencyPlate*>(spectra_), static_cast<FrequencyPlate*>(path_),
                                static_cast<FrequencyPlate*>(stack_)})
    plate->set_band(hz);
}

}  // namespace heathmist::app

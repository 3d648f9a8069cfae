#include "app/pages/aliasing/fold_view.hpp"

#include <QSplitter>
#include <cmath>

#include "app/widgets/labels.hpp"

namespace heathmist::app {

namespace {

constexpr int images = 2;

Cell hertz_cell(double hz) {
  return {hz < 1000 ? FoldView::tr("%1 Hz").arg(number(hz, 1)) : FoldView::tr("%1 kHz").arg(number(hz / 1000, 3)), hz};
}

QString what_it_is(const Landing& l, double from_hz) {
  if (l.image == 0) return l.folded() ? FoldView::tr("the tone itself, folded") : FoldView::tr("the tone itself");
  return FoldView::tr("image about %1 × %2").arg(std::abs(l.image)).arg(hertz(from_hz, false));
}

}  // namespace

FoldView::FoldView(QWidget* parent) : QWidget(parent) {
  auto* rows = new QVBoxLayout(this);
  rows->setContentsMargins(12, 4, 6, 6);
  rows->setSpacing(6);
  rows->addWidget(make_head());
  headline_ = answer_label(this, "fold");
  rows->addWidget(headline_);
  auto* split = new QSplitter(Qt::Horizontal, this);
  split->setHandleWidth(1);
  plate_ = new FoldPlate(split);
  plate_->setMinimumSize(240, 200);
  plate_->setAccessibleName(tr("Fold plate: frequency in across, where it lands upwards"));
  auto* side = new QWidget(split);
  auto* column = new QVBoxLayout(side);
  column->setContentsMargins(8, 0, 0, 0);
  column->setSpacing(4);
  make_tables(column, side);
  split->setSizes({430, 360});
  rows->addWidget(split, 1);
  connect(plate_, &FoldPlate::tone_chosen, this, [this](double hz) { tone_->setValue(std::round(hz / 10) * 10); });
  ask(96000, 44100, 27400);
}

QWidget* FoldView::make_head() {
  auto* head = new QWidget(this);
  auto* row = new QHBoxLayout(head);
  row->setContentsMargins(0, 0, 0, 0);
  row->setSpacing(6);
  auto field = [&](const QString& before, const QString& hint, double low, double high, int decimals) {
    row->addWidget(soft_label(before, head));
    auto* box = new NumberField(head);
    box->setRange(low, high);
    box->setDecimals(decimals);
    box->setSuffix(tr(" Hz"));
    box->setSingleStep(100);
    box->setMinimumWidth(118);
    set_term(box, "frequency");
    box->setToolTip(hint);
    box->setAccessibleName(hint);
    connect(box, &QDoubleSpinBox::valueChanged, this, &FoldView::draw);
    row->addWidget(box);
    return box;
  };
  from_ = field(tr("sampled at"), tr("The rate that goes in"), 1000, 1e6, 0);
  to_ = field(tr("then at"), tr("The rate that comes out"), 1000, 1e6, 0);
  tone_ = field(tr("a tone of"), tr("The tone that goes in; a click in the plate takes it from there"), 0, 5e5, 1);
  row->addStretch(1);
  return head;
}

void FoldView::make_tables(QVBoxLayout* column, QWidget* side) {
  constexpr int width = 96;
  landings_ = new ResultTable(tr("Where the tone lands"), side);
  landings_->set_columns(
      {{tr("What it is"),
        {},
        [this](size_t n) { return Cell{what_it_is(landed_[n], from_->value())}; },
        false,
        Column::stretch},
       {tr("Before"), {}, [this](size_t n) { return hertz_cell(landed_[n].before_hz); }, true, width, "frequency"},
       {tr("Lands at"), {}, [this](size_t n) { return hertz_cell(landed_[n].out_hz); }, true, width, "fold"}});
  sources_ = new ResultTable(tr("What else lands there"), side);
  sources_->set_columns(
      {{tr("What it would be"),
        {},
        [this](size_t n) { return Cell{what_it_is(others_[n].landing, from_->value())}; },
        false,
        Column::stretch},
       {tr("Went in"), {}, [this](size_t n) { return hertz_cell(others_[n].in_hz); }, true, width, "frequency"},
       {tr("Before"),
        {},
        [this](size_t n) { return hertz_cell(others_[n].landing.before_hz); },
        true,
        width,
        "frequency"}});
  for (const auto& [title, table] : {std::pair{&landings_title_, landings_}, {&sources_title_, sources_}}) {
    table->setMinimumHeight(90);
    column->addWidget(*title = title_label("", side));
    column->addWidget(table, 1);
  }
}

void FoldView::ask(double from_hz, double to_hz, double tone_hz) {
  for (const auto& [box, value] : {std::pair{from_, from_hz}, {to_, to_hz}, {tone_, tone_hz}}) {
    const QSignalBlocker quiet(box);
    box->setValue(value);
  }
  draw();
}

void FoldView::draw() {
  const double from = from_->value(), to = to_->value(), tone = std::min(tone_->value(), from / 2);
  FoldShown shown{tr("solid: as they are; dotted: their images"), from, to, fold_lines(from, to, images), {}, tone, {}};
  landed_ = heathmist::landings(tone, from, to, images);
  const double out = landed_.front().out_hz;
  for (const Landing& l : landed_) shown.lands_hz.push_back(l.out_hz);
  plate_->show_fold(shown);
  const QString in_words = hertz(tone, false), out_words = hertz(out, false), rate = hertz(to, false);
  headline_->setText(
      tone_->value() > from / 2
          ? tr("%1 cannot be held at %2: it stands at %3 already.")
                .arg(hertz(tone_->value(), false), hertz(from, false), hertz(folded_hz(tone_->value(), from), false))
      : landed_.front().folded()
          ? tr("%1 folds to %2 at %3, unless a filter takes it away first.").arg(in_words, out_words, rate)
          : tr("%1 stays where it is at %2.").arg(in_words, rate));
  landings_title_->setText(tr("Where %1 lands").arg(in_words));
  landings_->set_rows(landed_.size());
  others_ = sources_of(out, from, to, images);
  std::erase_if(others_, [tone](const LandingFrom& other) {
    return other.landing.image == 0 && std::abs(other.in_hz - tone) < 0.05;
  });
  sources_title_->setText(tr("What else would land at %1").arg(out_words));
  sources_->set_rows(others_.size());
}

}  // namespace heathmist::app

#include "app/pages/loudness/copies_form.hpp"

#include <QFileDialog>
#include <QFormLayout>
#include <QPushButton>
#include <QSettings>

#include "app/widgets/form_buttons.hpp"

namespace heathmist::app {

CopiesForm::CopiesForm(double target_lufs, int count, QWidget* parent) : QDialog(parent) {
  setWindowTitle(count == 1 ? tr("A levelled copy") : tr("%1 levelled copies").arg(count));
  auto* rows = new QFormLayout(this);
  auto field = [&](const QString& caption, double low, double high, double value, const QString& unit) {
    auto* box = new NumberField(this);
    box->setRange(low, high);
    box->setDecimals(1);
    box->setSuffix(" " + unit);
    box->setValue(value);
    rows->addRow(caption, box);
    return box;
  };
  target_ = field(tr("Target"), -50, 0, target_lufs, "LUFS");
  ceiling_ = field(tr("True peaks up to"), -40, 0, -1, "dBTP");
  limiter_ = new QCheckBox(tr("a true-peak limiter keeps to it; otherwise the gain stops there"), this);
  rows->addRow(QString(), limiter_);
  album_ = new QCheckBox(tr("one gain for all of them: an album keeps its balance"), this);
  album_->setEnabled(count > 1);
  rows->addRow(QString(), album_);
  words_ = new QComboBox(this);
  words_->addItem(tr("WAV, 24 bit"), QPoint(24, 0));
  words_->addItem(tr("WAV, 16 bit"), QPoint(16, 0));
  words_->addItem(tr("WAV, 32 bit floating point"), QPoint(32, 0));
  words_->addItem(tr("FLAC, 24 bit"), QPoint(24, 1));
  words_->addItem(tr("FLAC, 16 bit"), QPoint(16, 1));
  rows->addRow(tr("Written as"), words_);
  dither_ = new QComboBox(this);
  for (const auto& [name, key] : {std::pair{tr("triangular"), "triangular"},
                                  {tr("triangular, high-passed"), "triangular_high"},
                                  {tr("rectangular"), "rectangular"},
                                  {tr("Gaussian"), "gaussian"},
                                  {tr("none"), "none"}})
    dither_->addItem(name, key);
  rows->addRow(tr("Dither"), dither_);
  auto* place = new QWidget(this);
  auto* row = new QHBoxLayout(place);
  row->setContentsMargins(0, 0, 0, 0);
  folder_ = new QLineEdit(QSettings().value("copies/folder").toString(), place);
  folder_->setMinimumWidth(300);
  folder_->setPlaceholderText(tr("a folder"));
  auto* choose = new QPushButton(tr("Choose…"), place);
  choose->setAutoDefault(false);
  row->addWidget(folder_, 1);
  row->addWidget(choose);
  rows->addRow(tr("Into"), place);
  const auto buttons = form_buttons(this, tr("Write"));
  auto ready = [this, write = buttons.main] { write->setEnabled(!folder_->text().trimmed().isEmpty()); };
  connect(folder_, &QLineEdit::textChanged, this, ready);
  ready();
  connect(choose, &QPushButton::clicked, this, [this] {
    const QString folder = QFileDialog::getExistingDirectory(this, tr("Into which folder?"), folder_->text());
    if (!folder.isEmpty()) folder_->setText(folder);
  });
  rows->addRow(buttons.box);
}

void CopiesForm::accept() {
  QSettings().setValue("copies/folder", folder_->text());
  QDialog::accept();
}

LevelPlan CopiesForm::plan() const {
  const QPoint words = words_->currentData().toPoint();
  return {target_->value(),
          limiter_->isChecked(),
          ceiling_->value(),
          words.x(),
          dither_->currentData().toString().toStdString(),
          words.y() == 1};
}

}  // namespace heathmist::app

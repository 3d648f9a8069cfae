// Editing one outlet.
#pragma once
#include <QComboBox>
#include <QDialog>
#include <QFormLayout>
#include <QLabel>
#include <QLineEdit>

#include "app/widgets/number_field.hpp"
#include "core/delivery/outlet.hpp"

namespace heathmist::app {

class OutletForm : public QDialog {
  Q_OBJECT

 public:
  /// `chains`: what its encode may be, by name.
  OutletForm(const Outlet& outlet, const std::vector<Chain>& chains, QWidget* parent = nullptr);
  /// What the fields say; its key is made from the name where it had none. Throws OutletError.
  Outlet outlet() const;
  void accept() override;

 private:
  NumberField* level(const char* name, const QString& caption, std::optional<double> value, const QString& unit);
  std::optional<double> value_of(const char* name) const;
  Outlet before_;
  std::vector<Chain> chains_;
  QFormLayout* rows_;
  QLineEdit *name_, *what_;
  QComboBox *acts_, *turns_, *rule_, *encode_;
  QLabel* fault_;
};

}  // namespace heathmist::app

// SPDX-License-Identifier: GPL-3.0-or-later
#pragma once
#include <QLabel>
#include <QPushButton>
#include <QVBoxLayout>
#include <QWidget>

namespace ruedo {

/// What stands where there is no source yet: large and in the middle, what can be done.
class StartPanel : public QWidget {
    Q_OBJECT
  public:
    /// `add` is the menu of files, folders and cameras, which the caller keeps.
    explicit StartPanel(QMenu* add, QWidget* parent = nullptr);

  signals:
    void files();
    void folder();
    void pasted();
    void project(const QString& path);  ///< One that is to be opened: the demo, or a recent one.

  protected:
    void showEvent(QShowEvent*) override;

  private:
    QVBoxLayout* recent_;
    QPushButton* demo_;
    QLabel* recent_title_;
};

/// The demo's project, where it is installed or built; empty elsewhere.
QString demo_project();

}  // namespace ruedo

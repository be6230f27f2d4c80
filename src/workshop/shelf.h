// SPDX-License-Identifier: GPL-3.0-or-later
// The shelf: sources as cards in a flow, each with its poster in its true shape.
#pragma once
#include <QAbstractButton>
#include <QScrollArea>
#include <map>

#include "workshop/project.h"

namespace ruedo {

/// What a card says; found beside the window and kept while the file does not change.
struct CardFacts {
    QImage poster;
    QString length, sentence;
    bool trouble = false;
};

class Card : public QAbstractButton {
  public:
    Card(QString name, QWidget* parent);
    void set_facts(const CardFacts& facts);
    void set_chosen(bool chosen);
    QSize sizeHint() const override { return {220, 226}; }

  protected:
    void paintEvent(QPaintEvent*) override;

  private:
    QString name_;
    std::optional<CardFacts> facts_;
    bool chosen_ = false;
};

class Shelf : public QScrollArea {
    Q_OBJECT
  public:
    Shelf(Project& project, QWidget* parent = nullptr);
  signals:
    void activated();

  protected:
    void resizeEvent(QResizeEvent*) override;

  private:
    void rebuild();
    void lay_out();
    void mark();
    Project& project_;
    QWidget* flow_;
    std::vector<Card*> cards_;
    std::vector<SourceSpec> shown_;
    std::map<std::string, CardFacts> known_;
};

}  // namespace ruedo

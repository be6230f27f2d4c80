// SPDX-License-Identifier: GPL-3.0-or-later
// The shelf: sources as cards in a flow, each with its poster in its true shape.
#pragma once
#include <QAbstractButton>
#include <QScrollArea>

#include "convert/targets.h"
#include "workshop/glance.h"
#include "workshop/project.h"

namespace ruedo {

/// What a card says.
struct CardFacts {
    QImage poster;
    QString length, sentence;
    bool trouble = false, audio_only = false;
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
    std::size_t cards() const { return cards_.size(); }
    /// For the target, once the source was analysed.
    std::optional<Verdict> verdict_of(std::size_t card) const;
    /// What is known of how a source looks; null where that is nothing yet.
    QImage poster_of(const std::string& place) const;
    QString sentence_of(std::size_t card) const { return cards_.at(card)->accessibleDescription(); }
  signals:
    void activated();
    void progressed(int waiting);  ///< How many sources are still to be analysed.
    void looked_into(const std::string& place);

  protected:
    void resizeEvent(QResizeEvent*) override;

  private:
    void rebuild();
    void make_cards();
    void fill(std::size_t card);
    void lay_out();
    void mark();
    Project& project_;
    PosterCache* posters_;
    std::optional<Target> target_;
    QWidget* flow_;
    std::vector<Card*> cards_;
    std::vector<SourceSpec> shown_;
    std::vector<std::string> places_;  ///< Where each of them is ...
    std::vector<std::string> made_;    ///< ... and what was made of it for the target, if anything was.
    bool making_ = false;
};

}  // namespace ruedo

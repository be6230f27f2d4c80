// SPDX-License-Identifier: GPL-3.0-or-later
// The picture as it is and as it will be, with what plays and steps both, and a sentence that says how they are seen
// and heard.
#pragma once
#include <QLabel>
#include <QPushButton>

#include "workshop/pairing.h"
#include "workshop/wipe.h"

namespace ruedo {

class BeforeAfter : public QWidget {
  public:
    explicit BeforeAfter(PlaybackHost& host, QWidget* parent = nullptr);
    Wipe& wipe() { return *wipe_; }
    Pairing& pairing() { return *pairing_; }
    /// Nothing to be seen, and why.
    void clear(const QString& word = {});
    /// Until there is something to compare: how the source looks. Nothing where there is.
    void show_source(const QImage& picture);
    void open(const Pairing::Subject& subject, Time at);
    /// Picks one of the sentence's words: "beside", "pixels", "hear after" ...
    void pick(const QString& word);
    /// What can be done with the picture that stands there, as its button offers it.
    struct Offer {
        QString words;
        std::function<void(Time)> take;
    };
    std::function<std::vector<Offer>()> offers;
    /// The words that can be picked, in their order.
    QStringList words() const;
    void toggle();
    std::function<void(Time)> on_place;  ///< Another moment is seen or heard.
    std::function<void()> on_plays;      ///< It begins to play.

  private:
    struct Word {
        const char *key, *label;
        bool now;
    };
    std::vector<std::vector<Word>> groups() const;
    void say();
    void moved(Time at);
    Wipe* wipe_;
    Pairing* pairing_;
    QPushButton *toggle_, *back_, *on_, *picture_;
    QLabel* sentence_;
    std::optional<Pairing::Subject> subject_;
    QString waits_for_;  ///< Why there is nothing to compare yet.
};

}  // namespace ruedo

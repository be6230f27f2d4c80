// SPDX-License-Identifier: GPL-3.0-or-later
// The player told in plain sentences; the underlined words can be changed in place.
#pragma once
#include <QTextBrowser>

#include "view/desk.h"
#include "workshop/known_clips.h"
#include "workshop/project.h"

namespace ruedo {

class Sentences : public QWidget {
  public:
    Sentences(Project& project, std::shared_ptr<KnownClips> clips, QWidget* parent = nullptr);
    /// The text as shown, for tests and for the search.
    QString plain_text() const;
    /// Opens the chooser of a word by its key ("start", "loop", "fit" ...), as pressing it does.
    void choose(const QString& key);
    /// Takes over a value for a word, as its chooser does; false when it is none.
    bool set_value(const QString& key, const QString& value);
    QStringList keys() const;
    /// What can be chosen for a word: the values of its list, or the ends of its range.
    QStringList values(const QString& key) const;

  protected:
    void resizeEvent(QResizeEvent*) override;

  private:
    void share_room();
    struct Choice {
        QString value, label;
    };
    struct Word {
        QString key, path, shown, fallback;  ///< `path` is its JSON pointer; `fallback` says the default.
        bool changed = false;
        std::vector<Choice> choices;
        std::optional<std::pair<double, double>> range;  ///< A number with a unit instead of a list.
        double number = 0;
        QString unit, title;
    };
    std::vector<Word> words() const;
    QString html() const;
    void rebuild();
    void review_later();
    Project& project_;
    std::shared_ptr<KnownClips> clips_;
    QTextBrowser* text_;
    QTextBrowser* findings_;
    QTimer review_;
    Desk desk_;
};

}  // namespace ruedo

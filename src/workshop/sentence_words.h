// SPDX-License-Identifier: GPL-3.0-or-later
// What the sentences say of a document, and what can be changed in them: each word knows its place in the document, its
// default, and how a new value is taken over.
#pragma once
#include <QString>
#include <QStringList>
#include <functional>
#include <optional>
#include <vector>

#include "player/player.h"

namespace ruedo {

struct Word {
    struct Option {
        QString value, label;
    };
    struct Range {
        double low, high, now;
        QString unit, title;
        int decimals = 0;
    };
    QString key, path, shown, fallback;  ///< `path` is its JSON pointer; `fallback` says the default.
    bool changed = false;
    std::vector<Option> options;
    std::optional<Range> range;  ///< A number with a unit.
    QString typed;               ///< What to say over a field for words of one's own; empty where there is none.
    QString now;                 ///< The value as `set` takes it.
    QString what;                ///< For the history: "Loop".
    /// Takes a value over, or says what is wrong with it.
    std::function<std::optional<QString>(PlayerDocument&, const QString&)> set;
};

struct Paragraph {
    QString id;       ///< "source", "screen", "player", "controls", "control".
    QString heading;  ///< May be empty.
    QStringList
        told;  ///< Sentences, with the keys of their words in braces, controls in brackets, players between < and >.
};

struct SentencePage {
    std::vector<Paragraph> paragraphs;
    std::vector<Word> words;
    const Word* find(const QString& key) const;
};

struct Selected {
    std::size_t source = 0, player = 0;
    std::string control;  ///< Of that player, by its own name; empty for none.
};
/// `file_for` writes a file as the document does.
SentencePage describe(const PlayerDocument& document, const Selected& selected,
                      const std::function<std::string(const std::string&)>& file_for);

}  // namespace ruedo

// SPDX-License-Identifier: GPL-3.0-or-later
// What the player does when something happens to its app, in sentences.
#include "workshop/telling.h"

namespace ruedo::builder {

void describe_host(PageBuilder& t) {
    Paragraph paragraph{"host", "When the app is interrupted", {}};
    for (std::size_t i = 0; i < host_row_count; ++i) {
        auto& row = host_rows()[i];
        std::vector<Word::Option> options;
        for (auto action : row.actions) options.push_back({text(action_name(action)), text(action_words(action))});
        auto key = "host " + text(row.name);
        t.chosen(key, t.at() + "host/" + text(row.name), text(row.told).section(',', 0, 0), options,
                 text(action_name(t.spec().host.of(i))), [i, player = t.player](PlayerDocument& d, std::size_t option) {
                     auto action = host_rows()[i].actions[option];
                     auto& said = d.player(player).host.actions[i];
                     said = action == host_rows()[i].usual() ? std::nullopt : std::optional(action);
                 });
        paragraph.told << QString("%1 {%2}.").arg(text(row.told), key);
    }
    // What a press of a packed app's users has set may be kept.
    static const std::vector<Word::Option> kept{{"", "nothing"},
                                                {"volume", "volume"},
                                                {"place", "source and position"},
                                                {"captions", "captions"},
                                                {"volume,place", "volume, source and position"},
                                                {"volume,place,captions", "volume, source, position and captions"}};
    QStringList now;
    for (auto r : t.spec().remembered) now << text(remember_names()[static_cast<std::size_t>(r)]);
    t.chosen("remembers", t.at() + "remembers", "Remembered state", kept, now.join(','),
             [player = t.player](PlayerDocument& d, std::size_t option) {
                 auto& all = d.player(player).remembered;
                 all.clear();
                 for (auto& name : kept[option].value.split(',', Qt::SkipEmptyParts))
                     for (std::size_t i = 0; i < remember_names().size(); ++i)
                         if (name == text(remember_names()[i])) all.push_back(static_cast<Remember>(i));
             });
    paragraph.told << "Between runs it remembers {remembers}.";
    t.out.paragraphs.push_back(std::move(paragraph));
}

}  // namespace ruedo::builder

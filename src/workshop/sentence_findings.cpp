// SPDX-License-Identifier: GPL-3.0-or-later
// What the review turned up, below the sentences: asked for, told, gone to and fixed.
#include <QFileDialog>
#include <nlohmann/json.hpp>

#include "player/rules.h"
#include "scene/scene.h"
#include "view/look.h"
#include "workshop/sentences.h"

namespace ruedo {

void Sentences::fix(std::size_t finding) {
    if (finding >= found_.size() || !found_[finding].fix) return;
    auto d = project_.document();
    // What was found may be of a moment ago.
    if (!to_json(d).contains(nlohmann::json::json_pointer(found_[finding].where))) return;
    found_[finding].fix->apply(d);
    project_.change(d, text(found_[finding].fix->words));
}

/// What it is about is selected: a player, a control, a source.
void Sentences::show_place(std::size_t finding) {
    if (finding >= found_.size()) return;
    auto parts = text(found_[finding].where).split('/', Qt::SkipEmptyParts);
    auto number = parts.value(1).toULong();
    if (parts.value(0) == "sources" && number < project_.document().sources.size()) return project_.set_current(number);
    if (parts.value(0) != "players" || number >= project_.document().players.size()) return;
    auto& controls = project_.document().player(number).controls;
    auto control = parts.value(3).toULong();
    bool one = parts.value(2) == "controls" && parts.size() > 3 && control < controls.size();
    project_.select_player(number, one ? controls[control].name : std::string());
    if (parts.value(2) == "host") unfolded_.insert("host"), rebuild();
}

/// A source that has vanished, or moved: any file may take its place.
void Sentences::point(std::size_t finding) {
    if (finding >= found_.size()) return;
    auto source = text(found_[finding].where).section('/', 2, 2).toULong();
    auto d = project_.document();
    if (source >= d.sources.size()) return;
    auto file = QFileDialog::getOpenFileName(this, "Where is “" + text(d.sources[source].name) + "” now?",
                                             text(project_.folder().string()));
    if (file.isEmpty()) return;
    d.sources[source].file = project_.file_for(file.toStdString());
    project_.change(d, "Choosing a source’s file again");
}

/// What a review depends on.
std::string Sentences::reviewed_document() const {
    return to_json(project_.document()).dump(-1, ' ', false, nlohmann::json::error_handler_t::replace) +
           project_.folder().string();
}
void Sentences::review_now() {
    auto work = [document = project_.document(), folder = project_.folder(),
                 ask = clips_->asker()](const std::atomic<bool>&) { return scene::review_all(document, folder, ask); };
    tasks_.ask("review", reviewed_document(), std::move(work), [this](std::vector<DocumentFinding> found) {
        found_ = gather_findings(std::move(found), project_.document());
        found_.insert(found_.end(), unreadable_.begin(), unreadable_.end());
        ++reviews_;
        describe_findings();
        show_told();  // impossible conditions are marked in place
    });
}
/// What needs pictures takes longer, and comes when it is there.
void Sentences::look_at_contrast() {
    auto look = [document = project_.document(), folder = project_.folder(),
                 kept = sampled_](const std::atomic<bool>& cancel) {
        return review_contrast(document, folder, [&](const std::string& source) {
            std::lock_guard lock(kept->mutex);
            auto it = kept->pictures.find(source);
            if (it == kept->pictures.end() && !cancel) it = kept->pictures.emplace(source, sample_frames(source)).first;
            return it == kept->pictures.end() ? std::vector<RgbImage>{} : it->second;
        });
    };
    tasks_.ask("contrast", reviewed_document(), std::move(look), [this](std::vector<DocumentFinding> found) {
        std::erase_if(found_, [](auto& f) { return f.code == "hard-to-read"; });
        unreadable_ = std::move(found);
        found_.insert(found_.end(), unreadable_.begin(), unreadable_.end());
        describe_findings();
    });
}

void Sentences::describe_findings() {
    if (!reviews_) return;
    auto& c = look::colours();
    QString body =
        QString("<html><body style=\"color:%1;\"><p style=\"font-weight:600; margin:0 0 4px 0;\">Findings</p>")
            .arg(c.ink.name());
    remarked_ = remark ? remark() : std::nullopt;
    if (remarked_) {
        body += QString("<p style=\"margin:4px 0;\"><span style=\"color:%1;\">%2</span> %3")
                    .arg((remarked_->good ? c.moss : c.rust).name(), remarked_->good ? "◉" : "⊖",
                         remarked_->sentence.toHtmlEscaped());
        for (std::size_t i = 0; i < remarked_->presses.size(); ++i)
            body += QString(" <a href=\"press:%1\" style=\"color:%2;\">%3</a>")
                        .arg(i)
                        .arg(c.wine.name(), remarked_->presses[i].first.toHtmlEscaped());
        body += "</p>";
    }
    if (found_.empty() && (!remarked_ || remarked_->good)) body += "<p style=\"margin:0;\">No findings.</p>";
    for (std::size_t i = 0; i < found_.size(); ++i) {
        auto& f = found_[i];
        auto fixed = [&](const QString& link, const QString& words) {
            return QString(" <a href=\"%1:%2\" style=\"color:%3;\">%4</a>")
                .arg(link)
                .arg(i)
                .arg(c.wine.name(), words.toHtmlEscaped());
        };
        QString recipe_fixes;
        if (f.fix) recipe_fixes += fixed("mend", text(f.fix->words));
        if (f.code == "target-refuses" && prepare) recipe_fixes += fixed("prepare", "Prepare them");
        if (f.code == "no-file") recipe_fixes += fixed("point", "Locate it …");
        body += QString(
                    "<p style=\"margin:4px 0;\"><span style=\"color:%1;\">⊖</span> <a href=\"at:%6\" "
                    "style=\"color:%7; text-decoration:none;\">%2</a> <span style=\"color:%3;\">%4</span>%5</p>")
                    .arg(c.rust.name(), text(f.sentence).toHtmlEscaped(), c.soft.name(), text(f.why).toHtmlEscaped(),
                         recipe_fixes)
                    .arg(i)
                    .arg(c.ink.name());
    }
    body += "</body></html>";
    if (body != std::exchange(told_findings_, body)) findings_->setHtml(body), share_room();
}

}  // namespace ruedo

// SPDX-License-Identifier: GPL-3.0-or-later
#pragma once
#include <QLabel>
#include <QPushButton>
#include <QTemporaryDir>
#include <QTextBrowser>

#include "convert/trial.h"
#include "view/desk.h"
#include "workshop/cost_strip.h"
#include "workshop/job_cards.h"
#include "workshop/project.h"
#include "workshop/recipe_words.h"
#include "workshop/wipe.h"

namespace ruedo {

/// What a source becomes for the target: the picture under a wipe, the recipe in sentences, what it costs over time,
/// and what is being made.
class PreparePage : public QWidget {
  public:
    explicit PreparePage(Project& project, QWidget* parent = nullptr);
    Wipe& wipe() { return *wipe_; }
    CostStrip& strip() { return *strip_; }
    JobCards& cards() { return *cards_; }
    QString plain_text() const { return text_->toPlainText(); }
    QStringList keys() const;
    /// What a word may become, by its key.
    QStringList choices(const QString& key) const;
    /// Takes one of these over, as its menu does; false where there is none.
    bool choose(const QString& key, const QString& label);
    bool type(const QString& key, const QString& typed);
    const std::shared_ptr<const Trial>& trial() const { return trial_; }
    /// How many words were changed by hand, and whether the last one is taken up.
    std::size_t changes() const;
    bool settled() const { return asked_ == answered_; }
    /// The whole is made, beside the project, as a job of the queue.
    void make();
    std::function<void(const QString&)> on_shelve;

  protected:
    void showEvent(QShowEvent*) override;

  private:
    /// A source's plan, with the clip that it speaks of.
    struct Planned {
        std::shared_ptr<Clip> clip;
        Recipe recipe;
        Target target;
        std::optional<Plan> plan;
        std::optional<Error> refused;
        std::vector<std::string> why;
        Time hardest{};
    };
    std::string source() const;
    void look();
    void planned(std::shared_ptr<Planned> planned);
    void tell();
    void change(const std::function<void(Recipe&)>& how);
    void open_word(const QString& key);
    void try_it();
    void show_place(Time at);
    Project& project_;
    Wipe* wipe_;
    QTextBrowser* text_;
    QLabel* sum_;
    QPushButton *make_, *undo_;
    CostStrip* strip_;
    JobCards* cards_;
    std::map<std::string, std::vector<Recipe>> recipes_;  ///< Of each source and target, the newest last.
    std::string shown_;                                   ///< Source and target.
    std::string asked_, answered_;                        ///< The same with the recipe: planned last, and told.
    std::shared_ptr<Planned> planned_;
    RecipeTold told_;
    std::shared_ptr<const Trial> trial_;
    std::filesystem::path tried_;
    std::string tried_key_;
    Time place_{};
    QTemporaryDir scratch_;
    int number_ = 0;
    Desk desk_;
};

}  // namespace ruedo

// SPDX-License-Identifier: GPL-3.0-or-later
#pragma once
#include <QLabel>
#include <QPushButton>
#include <QStackedWidget>
#include <QTextBrowser>

#include "convert/stills.h"
#include "convert/trial.h"
#include "view/desk.h"
#include "workshop/before_after.h"
#include "workshop/cost_strip.h"
#include "workshop/job_cards.h"
#include "workshop/project.h"
#include "workshop/recipe_words.h"
#include "workshop/runs_chart.h"
#include "workshop/shelf_table.h"

namespace ruedo {

/// What a source becomes for the target: the picture under a wipe, the recipe in sentences, what it costs over time,
/// and what is being made. Or the whole shelf at once.
class PreparePage : public QWidget {
  public:
    explicit PreparePage(Project& project, PlaybackHost& host, QWidget* parent = nullptr);
    BeforeAfter& before_after() { return *before_after_; }
    Wipe& wipe() { return before_after_->wipe(); }
    CostStrip& strip() { return *strip_; }
    JobCards& cards() { return *cards_; }
    RunsChart& runs() { return *runs_; }
    ShelfTable& table() { return *table_; }
    QString plain_text() const { return text_->toPlainText(); }
    QString sum() const { return sum_->text(); }
    QStringList keys() const;
    /// What a word may become, by its key.
    QStringList options(const QString& key) const;
    /// Takes one of these over, as its menu does; false where there is none.
    bool choose(const QString& key, const QString& label);
    bool type(const QString& key, const QString& typed);
    const std::shared_ptr<const SampleEncode>& sample_encode() const { return sample_encode_; }
    /// How many words were changed by hand since the window opened, and whether the last one is taken up.
    std::size_t changes() const { return changes_; }
    bool settled() const { return asked_ == answered_; }
    /// The recipe of the source that is looked at becomes what `how` makes of the one that stands.
    void change(const std::function<void(Recipe&)>& how);
    /// The same by a row of the fixes, as soon as the source is known.
    void fix(const std::string& finding);
    /// The whole is made, beside the project, as a job of the queue.
    void make();
    /// The picture that the source shows at a time becomes its poster: as it is, the sharpest within half a second, or
    /// cut to the shape of what the player is seen in, as a file beside the project.
    enum class Poster { as_it_is, sharpest, cut };
    void keep_poster(Time at, Poster how);
    /// Twelve pictures of all of it on one sheet, beside the project.
    void make_sheet();
    QString note() const { return note_->text(); }
    /// One source, or all of them at once.
    void show_shelf(bool shelf);
    /// What came of a job, held against what it was made of.
    void compare(const Job& job);
    std::function<void(const QString&)> on_shelve;
    std::function<void(const Job&)> on_over;
    std::function<void()> on_plays;  ///< Both begin to play here.

  protected:
    void showEvent(QShowEvent*) override;
    void hideEvent(QHideEvent*) override;

  private:
    /// What is known of a source whatever its recipe.
    struct Known {
        std::shared_ptr<Clip> clip;
        Target target;
        Proposal proposal;
        Time hardest{};
    };
    /// A source's plan, with the clip that it speaks of.
    struct Planned {
        std::shared_ptr<const Known> known;
        Recipe recipe;
        std::optional<Plan> plan;
        std::optional<Error> refused;
    };
    const SourceSpec* spec() const;
    std::string source() const;
    /// Whose pictures are seen as they are: the chosen source's, or of what a job that is compared was made.
    std::string seen() const { return compared_ ? compared_->in : source(); }
    std::string target() const;
    void look();
    void planned(std::shared_ptr<Planned> planned);
    void describe();
    void open_word(const QString& key);
    void try_it();
    void try_a_moment(const BackgroundTasks::Question& question, const std::string& from, SampleEncodeOptions whole);
    static std::filesystem::path moment_file(const std::filesystem::path& sample_encode);
    /// What is seen, and its figures: a trial, or what came of a job.
    void show_sample_encode(std::shared_ptr<const SampleEncode> sample_encode, const Pairing::Subject& subject,
                            const QString& sum);
    void show_runs();
    void keep_run();
    void set_poster(const std::string& source, const std::function<void(SourceSpec&)>& how, const QString& told);
    void write_stills(const char* what, const StillOptions& options, std::function<void(const QString&)> done);
    bool under_way(const std::filesystem::path& out);
    /// A job, and its place in the document; false where it can't be.
    bool add_job(PlayerDocument& document, std::size_t source, const Recipe& recipe, const Target& target,
                 const std::string& ending, const Job& estimated);
    Project& project_;
    QStackedWidget* pages_;
    BeforeAfter* before_after_;
    QTextBrowser* text_;
    QLabel *name_, *sum_, *note_;
    QPushButton *make_, *undo_, *keep_, *shelf_;
    RunsChart* runs_;
    CostStrip* strip_;
    ShelfTable* table_;
    JobCards* cards_;
    std::map<std::string, std::vector<RunsChart::Run>> kept_;  ///< Of each source and target.
    std::string shown_;                                        ///< Source and target.
    std::string asked_, answered_;                             ///< The same with the recipe: planned last, and told.
    std::shared_ptr<Planned> planned_;
    RecipeText told_;
    std::shared_ptr<const SampleEncode> sample_encode_;
    std::filesystem::path tried_;
    std::string tried_key_;
    std::string fix_;              ///< Waits until the source is known.
    std::optional<Job> compared_;  ///< What came of this one is seen in place of the trial.
    ScratchFolder scratch_{"trials"};
    std::size_t changes_ = 0;
    int number_ = 0;
    BackgroundTasks tasks_;
    BackgroundTasks stills_{nullptr, 1};  ///< What is quickly done does not wait behind trials.
};

}  // namespace ruedo

// SPDX-License-Identifier: GPL-3.0-or-later
// The queue of conversions as cards along the foot, and what carries it out while the window is open.
#pragma once
#include <QHBoxLayout>
#include <QLabel>
#include <QScrollArea>
#include <QTimer>
#include <future>

#include "convert/jobs.h"
#include "view/desk.h"

namespace ruedo {

/// "3.1 MB", "420 kB".
QString bytes_said(std::uint64_t bytes);

class JobCards : public QScrollArea {
  public:
    explicit JobCards(std::filesystem::path folder, QWidget* parent = nullptr);
    /// What is under way gives way, and goes on in the next start.
    ~JobCards() override;
    JobQueue& queue() { return queue_; }
    /// Looks at the queue, beside the window, and carries it out where something waits.
    void look();
    /// How many are under way or wait for their turn; those that rest were told to.
    std::size_t unfinished() const;
    /// In the order in which they stand there, as they were seen last.
    std::vector<Job> shown() const;
    /// Moves one before another, or behind all, as a hand does by dragging its card.
    void move(std::uint64_t id, std::optional<std::uint64_t> before);
    std::function<void(const std::filesystem::path&)> on_shelve;  ///< "Add to the shelf" was pressed.
    std::function<void(const Job&)> on_compare;                   ///< "Compare" was.
    std::function<void(const Job&)> on_over;                      ///< One is done, or failed, since it was seen last.

  private:
    class Card;
    void show(const std::vector<Job>& jobs);
    void run();
    std::optional<std::uint64_t> before_at(int x, std::uint64_t moved) const;
    JobQueue queue_;
    QWidget* row_;
    QHBoxLayout* box_;
    QLabel* empty_;
    std::map<std::uint64_t, Card*> cards_;
    std::vector<std::uint64_t> order_;
    bool seen_ = false, dragged_ = false;
    QTimer timer_;
    std::shared_ptr<std::atomic<bool>> stop_ = std::make_shared<std::atomic<bool>>(false);
    std::future<void> runner_;
    std::uint64_t looked_ = 0;
    BackgroundTasks tasks_{nullptr, 1};
};

}  // namespace ruedo

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
    std::function<void(const std::filesystem::path&)> on_shelve;  ///< "Put it on the shelf" was pressed.

  private:
    class Card;
    void show(const std::vector<Job>& jobs);
    void run();
    JobQueue queue_;
    QWidget* row_;
    QHBoxLayout* box_;
    QLabel* empty_;
    std::map<std::uint64_t, Card*> cards_;
    QTimer timer_;
    std::shared_ptr<std::atomic<bool>> stop_ = std::make_shared<std::atomic<bool>>(false);
    std::future<void> runner_;
    std::uint64_t looked_ = 0;
    Desk desk_{nullptr, 1};
};

}  // namespace ruedo

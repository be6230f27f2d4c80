// SPDX-License-Identifier: Apache-2.0
#include "view/player_view.h"

#include <QAction>
#include <QApplication>
#include <QEvent>
#include <QScreen>
#include <algorithm>
#include <cmath>
#include <tuple>

#include "view/look.h"
#include "view/player_layers.h"
#include "view/spoken.h"

namespace ruedo {
PlaybackHost::PlaybackHost(bool audio_device)
    : strand(make_real_strand()),
      mixer(*strand, audio_device ? std::function<std::unique_ptr<AudioDevice>()>(make_server_device) : nullptr) {}

PlayerView::PlayerView(PlaybackHost& host, QWidget* parent)
    : QWidget(parent), host_(host), surface_(new VideoSurface(this)), sheet_(*this, *surface_) {
    poster_ = new Poster(this);
    captions_ = new CaptionsLayer(this);
    captions_->on_changed = [this] { sheet_.mark(captions_->geometry()); };

    PlayerSession::Host told{
        .strand = host_.strand,
        .make =
            [this](std::shared_ptr<FrameSink> sink) {
                return std::make_unique<Controller>(Controller::Env{.strand = make_real_strand(),
                                                                    .mixer = &host_.mixer,
                                                                    .codecs = &CodecRegistry::standard(),
                                                                    .sink = std::move(sink),
                                                                    .open_clip = host_.open_clip,
                                                                    .stream = host_.stream});
            },
        .sink = surface_->sink()};
    told.event = [this](const Event&) {
        if (event_posted_.exchange(true)) return;
        QMetaObject::invokeMethod(
            this,
            [this] {
                event_posted_ = false;
                follow();
            },
            Qt::QueuedConnection);
    };
    told.changed = [this](std::size_t index) {
        QMetaObject::invokeMethod(this, [this, index] { turned(index); }, Qt::QueuedConnection);
    };
    told.full_screen = [this] { toggle_full_screen(); };
    told.renew = [this] { renew(); };
    told.leave = [this] {
        if (in_full_screen()) toggle_full_screen();
        controller().release();
        if (on_leave) on_leave();
    };
    session_ = std::make_unique<PlayerSession>(std::move(told));
    surface_->report_to(&controller());
    surface_->on_resized = [this] { controller().refresh(); };

    connect(&follow_, &QTimer::timeout, this, [this] { follow(); });
    follow_.start(100);
    hide_.setSingleShot(true);
    connect(&hide_, &QTimer::timeout, this, [this] { follow(); });
    installEventFilter(this);
    for (QWidget* w : {static_cast<QWidget*>(this), static_cast<QWidget*>(surface_)}) w->setMouseTracking(true);
    setAttribute(Qt::WA_AcceptTouchEvents);
    setFocusPolicy(Qt::ClickFocus);
    setMinimumSize(120, 80);
    speak_as(*this, QAccessible::Grouping);

    for (auto& key : player_keys())
        add_action(QKeySequence(text(key.keys)), [this, keys = key.keys] { session_->key(keys); });
    add_action(Qt::Key_Escape, [this] {
        if (in_full_screen()) toggle_full_screen();
    });
    make_controls();
}

PlayerView::~PlayerView() {
    // What has the focus among its children loses it after this, and they are taken down after its sheet.
    disconnect(qApp, nullptr, this, nullptr);
    for (auto& m : controls_) m.shows->set_changed({});
    captions_->on_changed = {};
    surface_->report_to(nullptr);
    surface_->on_resized = {};
    session_.reset();
}

void PlayerView::renew() {
    surface_->report_to(nullptr);
    session_->renew();
    surface_->report_to(&controller());
    events_seen_ = 0;
    if (on_renewed) on_renewed();
}

void PlayerView::host(std::string_view word) {
    session_->host(word);
    follow();
}

/// Another source plays, perhaps through another controller.
void PlayerView::turned(std::size_t index) {
    if (index >= session_->document().sources.size()) return;
    auto* before = &controller();
    surface_->report_to(nullptr);
    session_->turned(index);
    surface_->report_to(&controller());
    if (&controller() != before) events_seen_ = 0;
    take_look();
    if (on_turned) on_turned(index);
    follow();
}

/// What the document says of the picture.
void PlayerView::take_look() {
    auto p = session_->player().picture;
    p.corner = static_cast<int>(std::lround(p.corner * scale()));
    surface_->set_look(p);
    setAccessibleName(text(session_->player().name));
    if (auto* s = session_->source()) {
        surface_->set_fit(s->fit, s->align_x, s->align_y);
        surface_->setAccessibleName(text("Picture of " + s->name));
    }
}

/// One widget for each control of the document; those that were there stay, and keep the focus.
void PlayerView::make_controls() {
    auto before = std::move(controls_);
    controls_.clear();
    for (auto& spec : session_->player().controls) {
        auto same = std::find_if(before.begin(), before.end(), [&](auto& m) {
            return m.widget && m.shows->spec().name == spec.name && m.shows->spec().kind == spec.kind;
        });
        if (same != before.end()) {
            same->shows->set_spec(spec);
            same->widget->update();
            controls_.push_back(*same);
            same->widget = nullptr;
            continue;
        }
        auto calls = session_->calls();
        calls.press = [this, name = spec.name](const Press& p) {
            if (p.what != Press::What::none) controller().tell("press", name);
            session_->press(p);
        };
        calls.go = [this](std::size_t index) {
            if (index == session_->index()) return;
            session_->calls().go(index);
            turned(index);
        };
        auto made = make_control(spec, calls, this);
        made.shows->set_changed([this, w = made.widget] {
            if (!w->isHidden()) sheet_.mark(w->geometry());
        });
        made.shows->set_on_display(
            [this](auto& w, QPoint at) { return on_display ? on_display(w.mapTo(this, at)) : w.mapToGlobal(at); });
        made.shows->set_stills([this](auto at, auto told) { ask_still(at, std::move(told)); });
        controls_.push_back(made);
    }
    for (auto& m : before)
        if (m.widget) m.shows->set_changed({}), m.widget->hide(), m.widget->deleteLater();
    for (std::size_t i = 1; i < controls_.size(); ++i) setTabOrder(controls_[i - 1].widget, controls_[i].widget);
    while (plates_.size() < session_->player().bars.size()) plates_.push_back(new Plate(this));
    fill_strips();
    sheet_.mark_all();
    // What moves with the sound is looked at oftener.
    bool meters = std::any_of(controls_.begin(), controls_.end(),
                              [](auto& m) { return m.shows->spec().kind->form == ControlKind::Form::meter; });
    follow_.start(meters ? 40 : 100);
    follow();
}

void PlayerView::add_action(const QKeySequence& keys, std::function<void()> run) {
    auto* action = new QAction(this);
    action->setShortcut(keys);
    action->setShortcutContext(everywhere_ ? Qt::WindowShortcut : Qt::WidgetWithChildrenShortcut);
    connect(action, &QAction::triggered, this, [this, run = std::move(run)] { wake(), run(); });
    addAction(action);
}

void PlayerView::take_keys_everywhere(bool taken) {
    everywhere_ = taken;
    for (auto* action : actions()) {
        action->setShortcutContext(taken ? Qt::WindowShortcut : Qt::WidgetWithChildrenShortcut);
        action->setEnabled(true);
    }
    if (!taken || std::exchange(watches_focus_, true)) return;
    // Where another player of the window has the focus, the keys are its own.
    connect(qApp, &QApplication::focusChanged, this, [this](QWidget*, QWidget* now) {
        if (!everywhere_) return;
        auto* owner = now;
        while (owner && !dynamic_cast<PlayerView*>(owner)) owner = owner->parentWidget();
        for (auto* action : actions()) action->setEnabled(!owner || owner == this);
    });
}

void PlayerView::set_standalone(bool alone) {
    alone_ = alone;
    if (std::exchange(standalone_, true)) return;
    take_keys_everywhere();
    add_action(Qt::Key_Space, [this] { controller().toggle(); });
}

void PlayerView::load(const PlayerDocument& document, std::size_t index, const std::filesystem::path& folder) {
    auto before = session_->document();
    auto from = session_->folder();
    surface_->set_video_size(0, 0);
    session_->load(document, index, folder);
    loaded_ = true;
    forget_posters(before, from);
    take_look();
    make_controls();
    find_posters();
    wake();
}

void PlayerView::apply(const PlayerDocument& document, std::size_t index) {
    if (index >= document.sources.size()) return;
    auto before = session_->document();
    session_->apply(document, index);
    forget_posters(before, session_->folder());
    take_look();
    make_controls();
    find_posters();
}

void PlayerView::take(const PlayerDocument& document, std::size_t index, const std::filesystem::path& folder) {
    if (index >= document.sources.size()) {
        if (std::exchange(loaded_, false)) controller().release();
        return load(document, index, folder), loaded_ = false, void();
    }
    auto opens_as = [](const SourceSpec& s) { return std::tuple(s.file, s.start.how, s.start.delay); };
    auto* now = session_->source();
    bool same = loaded_ && now && folder == session_->folder() && opens_as(*now) == opens_as(document.sources[index]);
    // What has only moved in the queue goes on.
    if (auto was = session_->index(); same && index != was)
        same = now->name == document.sources[index].name &&
               !(was < document.sources.size() && document.sources[was] == *now);
    if (same) return apply(document, index);
    if (snapshot().state.phase == Phase::closed) renew();
    load(document, index, folder);
}

void PlayerView::set_clear(std::optional<QMargins> clear) { clear_ = clear; }

void PlayerView::set_mount(Mount mount, QSize pixels) {
    mount_ = mount, pixels_ = pixels;
    session_->set_handset(mount_shape().handset);
    take_look();
    follow();
}
double PlayerView::scale() const {
    // Over the whole screen it is seen as it is.
    return pixels_.isEmpty() || in_full_screen() || hangs() ? 1 : static_cast<double>(width()) / pixels_.width();
}
MountShape PlayerView::mount_shape() const {
    auto pixels = pixels_.isEmpty() || in_full_screen() ? size() : pixels_;
    auto shape = shape_of(mount_, pixels.width(), pixels.height());
    shape.loose = hangs();
    if (clear_ && !in_full_screen())
        shape.left = clear_->left(), shape.top = clear_->top(), shape.right = clear_->right(),
        shape.bottom = clear_->bottom();
    return shape;
}
QRect PlayerView::seen(const Box& b) const {
    auto at = [of = scale()](int v) { return static_cast<int>(std::lround(v * of)); };
    return {QPoint(at(b.x), at(b.y)), QPoint(at(b.right()) - 1, at(b.bottom()) - 1)};
}

QImage PlayerView::poster_now() const { return poster_->image(); }

QWidget* PlayerView::control_widget(std::string_view name) const {
    for (auto& m : controls_)
        if (m.shows->spec().name == name) return m.widget;
    return nullptr;
}
bool PlayerView::controls_shown() const {
    for (std::size_t i = 0; i < layout_.controls.size(); ++i)
        if (layout_.controls[i].shown && !session_->player().controls[i].kind->steadfast) return true;
    return false;
}
void PlayerView::set_arranging(bool arranging) {
    arranging_ = arranging;
    follow();
}

void PlayerView::wake() {
    session_->touch();
    hide_.start(static_cast<int>(session_->player().hide_after.ns / 1'000'000) + 1);
    if (cursor().shape() == Qt::BlankCursor) unsetCursor();
    follow();
}

bool PlayerView::someone_there() const {
    // Looking at a menu that one of the controls opened.
    for (auto* w = QApplication::activePopupWidget(); w; w = w->parentWidget())
        if (w == this) return true;
    auto under = [](auto* w) { return w->isVisible() && w->underMouse(); };
    return std::any_of(plates_.begin(), plates_.end(), under) ||
           std::any_of(controls_.begin(), controls_.end(), [&](auto& m) { return under(m.widget); });
}

/// Everything shown follows the snapshot; nothing here remembers what was pressed.
void PlayerView::follow() {
    session_->keep_awake(arranging_ || someone_there());
    session_->follow();
    auto context = session_->context();
    auto& s = context.snapshot;
    if (s.display_width > 0) surface_->set_video_size(s.display_width, s.display_height);
    place(context);
    if (!context.awake && in_full_screen()) setCursor(Qt::BlankCursor);
    // Until the first frame of what is being opened, its poster. One that was chosen stands until it is started, in
    // front of the first frame.
    auto* source = session_->source();
    bool chosen = source && poster_stands(*source, s);
    bool opening = s.state.phase == Phase::opening && !s.has_video;
    QColor surround(text(session_->player().picture.surround));
    QImage before_first;
    if (auto poster = posters_.find(session_->index()); poster != posters_.end() && (opening || chosen))
        before_first = poster->second;
    if (source && source->no_poster && (opening || chosen)) {
        static QImage nothing(1, 1, QImage::Format_RGB32);
        if (nothing.pixelColor(0, 0) != surround) nothing.fill(surround);
        before_first = nothing;
    }
    if (poster_->set(before_first, surround)) sheet_.mark(poster_->geometry());
    if (on_event && s.events > events_seen_)
        for (auto& e : controller().events(events_seen_)) events_seen_ = e.n, on_event(e);
}

/// Shows or hides a control. One that is hidden leaves the keyboard to the player and takes it again when it is back:
/// the next control, to which it would go otherwise, would call them all back by being given it.
void PlayerView::set_shown(QWidget& control, bool shown) {
    if (control.isHidden() != shown) return;
    if (!shown && control.hasFocus()) {
        had_focus_ = &control;
        setFocus(Qt::OtherFocusReason);
    }
    control.setVisible(shown);
    if (!shown) return;
    control.raise();
    if (had_focus_ != &control) return;
    had_focus_.clear();
    if (hasFocus()) control.setFocus(Qt::OtherFocusReason);
}

/// Puts everything where the layout has it.
void PlayerView::place(const ControlContext& context) {
    auto& player = session_->player();
    auto layout = lay_out(player, mount_shape(), context, session_->source());
    // A surface in a room has the size it has, and its bars beside it.
    if (hangs()) resize(layout.whole.width, layout.whole.height);
    surface_->setGeometry(rect());
    surface_->set_area(seen(layout.area));
    poster_->setGeometry(seen(layout.area));
    captions_->setGeometry(rect());
    for (std::size_t i = 0; i < plates_.size(); ++i) {
        auto bar = std::find_if(layout.bars.begin(), layout.bars.end(), [&](auto& b) { return b.bar == i; });
        bool shown = bar != layout.bars.end() && i < player.bars.size();
        if (shown)
            plates_[i]->set_look(player.theme_on(&player.bars[i]), player.bars[i].cover),
                plates_[i]->setGeometry(seen(bar->box));
        if (plates_[i]->isHidden() == shown) plates_[i]->setVisible(shown);
    }
    bool line_of_its_own = false;
    for (std::size_t i = 0; i < controls_.size() && i < layout.controls.size(); ++i) {
        auto& at = layout.controls[i];
        auto [widget, shows] = controls_[i];
        if (at.shown && at.box.empty()) continue;
        if (at.shown) {
            if (shows->set_ground(!at.on_bar, at.on_dark, at.theme)) widget->update();
            shows->set_scale(scale());
            if (widget->geometry() != seen(at.box)) widget->setGeometry(seen(at.box));
            line_of_its_own = line_of_its_own || player.controls[i].kind->form == ControlKind::Form::captions;
        }
        // One that is hidden may be read all the same, by who does not see it.
        shows->show_context(context);
        set_shown(*widget, at.shown);
    }
    while (more_.size() < layout.more.size()) {
        more_.push_back(new MoreButton(this));
        more_.back()->set_on_display(
            [this](auto& w, QPoint at) { return on_display ? on_display(w.mapTo(this, at)) : w.mapToGlobal(at); });
    }
    for (std::size_t i = 0; i < more_.size(); ++i) {
        bool shown = i < layout.more.size();
        if (shown) {
            auto& m = layout.more[i];
            std::vector<ControlSpec> folded;
            for (auto c : m.controls) folded.push_back(player.controls[c]);
            auto theme = player.theme_on(player.bar(m.bar));
            if (more_[i]->set_ground(m.bar.empty(), lies_on_dark(nullptr, theme), theme)) more_[i]->update();
            more_[i]->set_scale(scale());
            more_[i]->show_folded(std::move(folded), context, session_->calls());
            more_[i]->setGeometry(seen(m.box));
        }
        set_shown(*more_[i], shown);
    }
    if (hangs())
        sheet_.set_corners(surface_->video_rect() & QRectF(rect_of(layout.area)), player.picture.corner,
                           QColor(text(player.picture.surround)));
    auto s = context.snapshot;
    if (line_of_its_own) s.cues.reset();
    captions_->set_scale(scale());
    captions_->follow(s, surface_->video_rect(), layout.captions_foot * scale());
    bool moved = !(layout.picture == layout_.picture) || layout.controls.size() != layout_.controls.size();
    for (std::size_t i = 0; !moved && i < layout.controls.size(); ++i)
        moved = !(layout.controls[i].box == layout_.controls[i].box) ||
                layout.controls[i].shown != layout_.controls[i].shown;
    // What a stream fetches need not have more pixels than are seen.
    auto seen_at = surface_->video_rect().size() * devicePixelRatioF();
    if (seen_at.toSize() != told_size_ || told_to_ != &controller()) {
        told_size_ = seen_at.toSize(), told_to_ = &controller();
        controller().shown_at(told_size_.width(), told_size_.height());
    }
    layout_ = std::move(layout);
    if (moved && on_laid_out) on_laid_out();
}

void PlayerView::resizeEvent(QResizeEvent*) {
    surface_->setGeometry(rect());
    take_look();
    place(session_->context());
}
void PlayerView::childEvent(QChildEvent* event) {
    // Before it is seen for the first time.
    if (event->polished() && event->child()->isWidgetType()) event->child()->installEventFilter(this);
    QWidget::childEvent(event);
}

bool PlayerView::eventFilter(QObject* watched, QEvent* event) {
    if (auto* child = qobject_cast<QWidget*>(watched)) sheet_.watch(*child, *event);
    switch (event->type()) {
        case QEvent::MouseMove:
        case QEvent::Enter:
        case QEvent::KeyPress:
        case QEvent::TouchBegin:
        case QEvent::Wheel:
        case QEvent::MouseButtonPress:
            wake();
            break;
        case QEvent::FocusIn:
            // Given by somebody, not by code.
            if (static_cast<QFocusEvent*>(event)->reason() != Qt::OtherFocusReason) wake();
            break;
        case QEvent::MouseButtonDblClick:
            if (watched == surface_) toggle_full_screen();
            break;
        default:
            break;
    }
    return QWidget::eventFilter(watched, event);
}

void PlayerView::toggle_full_screen() {
    bool full = !in_full_screen();
    session_->set_full_screen(full);
    if (isWindow() && !home_) {
        setWindowState(full ? windowState() | Qt::WindowFullScreen : windowState() & ~Qt::WindowFullScreen);
    } else if (auto* top = window(); alone_ && !home_) {
        top->setWindowState(full ? top->windowState() | Qt::WindowFullScreen
                                 : top->windowState() & ~Qt::WindowFullScreen);
    } else if (full) {
        // The same widget with the same controller, lifted out of its place and put back later.
        home_ = parentWidget();
        home_geometry_ = geometry();
        auto whole = screen()->geometry();
        setParent(nullptr, Qt::Window);
        setGeometry(whole);  // where nobody manages windows it would keep its size
        showFullScreen();
    } else {
        setParent(home_, Qt::Widget);
        setGeometry(home_geometry_);
        home_ = nullptr;
        show();
        if (on_full_screen_left) on_full_screen_left();
    }
    if (!full) unsetCursor();
    wake();
}

}  // namespace ruedo

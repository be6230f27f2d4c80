// SPDX-License-Identifier: GPL-3.0-or-later
#include "checking.h"

#include <fmt/format.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "capture/camera.h"
#include "convert/targets.h"
#include "headless.h"
#include "plain.h"
#include "player/rules.h"
#include "scene/scene.h"

namespace ruedo {
namespace fs = std::filesystem;
using nlohmann::json;

namespace {
constexpr std::size_t most_projects = 1000;

class Check {
  public:
    explicit Check(std::string target) : target_(std::move(target)) {}

    Status look_at(const fs::path& project) {
        file_ = project.string();
        checked_.push_back(file_);
        auto bytes = read_file(project, most_document_bytes);
        if (!bytes) {
            note({std::string(error_code_name(bytes.error().code)),
                  bytes.error().sentence,
                  bytes.error().hint,
                  "",
                  {},
                  Severity::error});
            return {};
        }
        text_ = *bytes;
        for (auto& [where, place] : doubled_members(text_))
            note({"doubled-member",
                  fmt::format("{} is there twice; the later one counts.", where),
                  "What the earlier one says does not happen.",
                  where,
                  {},
                  Severity::error},
                 place);
        auto document = document_from_text(text_, project.filename().string());
        if (!document) {
            auto& fault = document.error();
            note({std::string(error_code_name(fault.error.code)),
                  fault.error.sentence,
                  fault.error.hint,
                  fault.where,
                  {},
                  Severity::error},
                 fault.place);
            return {};
        }
        if (!target_.empty()) document->target = target_;
        auto folder = project.has_parent_path() ? project.parent_path() : fs::path(".");
        for (auto& f : scene::review_all(*document, folder)) note(f);
        if (interrupted()) return stopped();
        for (auto& f : review_contrast(*document, folder)) note(f);
        for (std::size_t i = 0; i < document->sources.size(); ++i) {
            if (interrupted()) return stopped();
            look_at(document->sources[i], fmt::format("/sources/{}/file", i), folder);
        }
        return {};
    }
    std::size_t count(Severity at_least) const {
        return static_cast<std::size_t>(
            std::count_if(severities_.begin(), severities_.end(), [&](auto s) { return s >= at_least; }));
    }
    json report(bool ok) { return {{"ok", ok}, {"findings", std::move(findings_)}, {"checked", std::move(checked_)}}; }

  private:
    static Status stopped() { return fail(ErrorCode::cancelled, "Checking was interrupted.", "Run it again."); }
    /// What its packets tell.
    void look_at(const SourceSpec& source, const std::string& where, const fs::path& folder) {
        auto path = resolve(source, folder);
        if (is_camera(path)) return;
        if (is_address(path)) {
            note({"not-looked-at", fmt::format("“{}” does not lie on this machine and was not looked at.", source.name),
                  "Whether it is there and plays is not known.", where});
            return;
        }
        auto clip = open_clip(path);
        if (!clip) return;  // the review has said why
        checked_.push_back(path);
        std::shared_ptr<Clip> opened = std::move(*clip);
        auto known = opened->info().findings;
        auto facts = gather_facts(opened, CodecRegistry::standard(), path, {.loudness = false});
        if (!facts) return;
        for (auto& f : facts->findings)
            if (std::none_of(known.begin(), known.end(), [&](auto& k) { return k.code == f.code; }))
                note({f.code, f.sentence, f.hint, where});
    }
    void note(const DocumentFinding& f, std::optional<TextPlace> known = {}) {
        auto place = known.value_or(TextPlace{});
        // What is as it is by default is not written: then what holds it is meant.
        if (!known && !text_.empty())
            for (auto at = f.where; !(place = place_in_json(text_, at)) && !at.empty();) at.resize(at.rfind('/'));
        severities_.push_back(f.severity);
        findings_.push_back({{"code", f.code},
                             {"severity", f.severity == Severity::error ? "error" : "finding"},
                             {"sentence", f.sentence},
                             {"why", f.why},
                             {"file", file_},
                             {"where", f.where},
                             {"line", place ? json(place.line) : json(nullptr)},
                             {"column", place ? json(place.column) : json(nullptr)},
                             {"fix", f.fix ? json(f.fix->words) : json(nullptr)}});
    }
    std::string target_, file_;
    Bytes text_;
    json findings_ = json::array(), checked_ = json::array();
    std::vector<Severity> severities_;
};

Result<std::vector<fs::path>> projects_in(const fs::path& place) {
    std::error_code ec;
    if (!fs::is_directory(place, ec)) return std::vector{place};
    std::vector<fs::path> all;
    auto options = fs::directory_options::skip_permission_denied;
    for (fs::recursive_directory_iterator it(place, options, ec), end; !ec && it != end; it.increment(ec)) {
        if (interrupted()) return fail(ErrorCode::cancelled, "Checking was interrupted.", "Run it again.");
        if (it->path().extension() == ".ruedo" && it->is_regular_file(ec)) all.push_back(it->path());
        if (all.size() > most_projects)
            return fail(ErrorCode::limit,
                        fmt::format("“{}” holds more than {} projects.", place.string(), most_projects),
                        "Name a folder with fewer of them.");
    }
    if (all.empty())
        return fail(ErrorCode::not_found, fmt::format("“{}” holds no project.", place.string()),
                    "Projects end in .ruedo.");
    std::sort(all.begin(), all.end());
    return all;
}
}  // namespace

Result<json> check_command(const CheckArguments& w, int& exit) {
    if (w.fail_on != "error" && w.fail_on != "finding")
        return fail(ErrorCode::usage, fmt::format("--fail-on takes finding or error, not “{}”.", w.fail_on),
                    "Without it errors fail.");
    if (!w.target.empty()) {
        RUEDO_TRY(auto named, find_target(w.target));
    }
    RUEDO_TRY(auto projects, projects_in(w.place));
    std::error_code ec;
    if (projects.size() == 1 && !fs::exists(projects.front(), ec)) {
        RUEDO_TRY_DO(open_file(projects.front()));
    }
    Check check(w.target);
    for (auto& p : projects) RUEDO_TRY_DO(check.look_at(p));
    bool ok = check.count(w.fail_on == "error" ? Severity::error : Severity::finding) == 0;
    exit = ok ? 0 : 1;
    return check.report(ok);
}

std::string check_lines(const json& report) {
    std::string all;
    for (auto& f : report["findings"]) {
        auto place = f["line"].is_null() ? "" : fmt::format(":{}:{}", f["line"].get<int>(), f["column"].get<int>());
        all +=
            fmt::format("{}{}: {}: {} [{}]\n    {}{}\n", printable(f["file"]), place, f["severity"].get<std::string>(),
                        printable(f["sentence"]), f["code"].get<std::string>(), printable(f["why"]),
                        f["fix"].is_null() ? "" : fmt::format(" Fix: {}.", printable(f["fix"])));
    }
    auto errors = std::count_if(report["findings"].begin(), report["findings"].end(),
                                [](auto& f) { return f["severity"] == "error"; });
    return all + fmt::format("{} looked at: {} error{}, {} finding{}.\n", report["checked"].size(), errors,
                             errors == 1 ? "" : "s", report["findings"].size() - static_cast<std::size_t>(errors),
                             report["findings"].size() - static_cast<std::size_t>(errors) == 1 ? "" : "s");
}

}  // namespace ruedo

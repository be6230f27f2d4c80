// SPDX-License-Identifier: Apache-2.0
// Letters through Pango and cairo: any script, broken into lines, as coverage.
#include <pango/pangocairo.h>

#include <algorithm>
#include <cmath>
#include <cstring>

#include "codec/codec.h"

namespace ruedo {
namespace {

template <class T, void (*end)(T*)>
struct Ended {
    void operator()(T* p) const { end(p); }
};
using Surface = std::unique_ptr<cairo_surface_t, Ended<cairo_surface_t, cairo_surface_destroy>>;
using Context = std::unique_ptr<cairo_t, Ended<cairo_t, cairo_destroy>>;
struct Unreferenced {
    void operator()(PangoLayout* p) const { g_object_unref(p); }
};
using Layout = std::unique_ptr<PangoLayout, Unreferenced>;

class Setter final : public TextSetter {
  public:
    static Result<std::unique_ptr<TextSetter>> make() { return std::make_unique<Setter>(); }

    Result<TextBlock> set(std::span<const TextRun> runs, const TextStyle& style) override {
        // Once to measure, once to draw.
        Surface none(cairo_image_surface_create(CAIRO_FORMAT_A8, 1, 1));
        Context measuring(cairo_create(none.get()));
        auto layout = lay_out(measuring.get(), runs, style);
        if (!layout) return fail(ErrorCode::internal, "The letters could not be set.", "Install a font.");
        PangoRectangle ink{}, logical{};
        pango_layout_get_extents(layout.get(), &ink, &logical);
        auto units = [](int v) { return static_cast<double>(v) / PANGO_SCALE; };
        TextBlock block;
        block.width = static_cast<int>(std::ceil((units(logical.width) + 2 * style.margin) * style.stretch_x));
        block.height = static_cast<int>(std::ceil((units(logical.height) + 2 * style.margin) * style.stretch_y));
        block.line = units(logical.height) / std::max(1, pango_layout_get_line_count(layout.get()));
        if (block.width < 1 || block.height < 1 || block.width > 16384 || block.height > 16384)
            return fail(ErrorCode::limit, "The letters come to no size that can be drawn.", "Choose another size.");
        Surface surface(cairo_image_surface_create(CAIRO_FORMAT_A8, block.width, block.height));
        Context context(cairo_create(surface.get()));
        cairo_scale(context.get(), style.stretch_x, style.stretch_y);
        auto drawn = lay_out(context.get(), runs, style);
        cairo_move_to(context.get(), style.margin - units(logical.x), style.margin - units(logical.y));
        pango_cairo_show_layout(context.get(), drawn.get());
        cairo_surface_flush(surface.get());
        auto* from = cairo_image_surface_get_data(surface.get());
        if (cairo_status(context.get()) != CAIRO_STATUS_SUCCESS || !from)
            return fail(ErrorCode::internal, "The letters could not be drawn.");
        auto stride = cairo_image_surface_get_stride(surface.get());
        auto width = static_cast<std::size_t>(block.width);
        block.cover.resize(width * static_cast<std::size_t>(block.height));
        for (std::ptrdiff_t y = 0; y < block.height; ++y)
            std::memcpy(block.cover.data() + y * block.width, from + y * stride, width);
        return block;
    }

  private:
    static Layout lay_out(cairo_t* context, std::span<const TextRun> runs, const TextStyle& style) {
        Layout layout(pango_cairo_create_layout(context));
        if (!layout) return layout;
        std::string text;
        auto* attributes = pango_attr_list_new();
        for (auto& run : runs) {
            auto from = static_cast<guint>(text.size());
            // What is not UTF-8 is drawn as far as it is.
            auto* valid = g_utf8_make_valid(run.text.data(), static_cast<gssize>(run.text.size()));
            text += valid;
            g_free(valid);
            auto add = [&](PangoAttribute* a) {
                a->start_index = from, a->end_index = static_cast<guint>(text.size());
                pango_attr_list_insert(attributes, a);
            };
            if (run.italic) add(pango_attr_style_new(PANGO_STYLE_ITALIC));
            if (run.bold) add(pango_attr_weight_new(PANGO_WEIGHT_BOLD));
            if (run.underline) add(pango_attr_underline_new(PANGO_UNDERLINE_SINGLE));
        }
        pango_layout_set_text(layout.get(), text.data(), static_cast<int>(text.size()));
        pango_layout_set_attributes(layout.get(), attributes);
        pango_attr_list_unref(attributes);
        auto* font = pango_font_description_from_string("Sans");
        pango_font_description_set_absolute_size(font, std::clamp(style.size, 1.0, 2000.0) * PANGO_SCALE);
        pango_layout_set_font_description(layout.get(), font);
        pango_font_description_free(font);
        auto room = std::max(1.0, style.width - 2 * style.margin);
        pango_layout_set_width(layout.get(), static_cast<int>(std::min(room, 16384.0) * PANGO_SCALE));
        pango_layout_set_wrap(layout.get(), PANGO_WRAP_WORD_CHAR);
        pango_layout_set_alignment(layout.get(), style.align == TextStyle::Align::start ? PANGO_ALIGN_LEFT
                                                 : style.align == TextStyle::Align::end ? PANGO_ALIGN_RIGHT
                                                                                        : PANGO_ALIGN_CENTER);
        return layout;
    }
};

}  // namespace
}  // namespace ruedo

RUEDO_CODEC_MODULE {
    using namespace ruedo;
    static const CodecModule module{.name = "pango",
                                    .library = "Pango and cairo",
                                    .licence = "LGPL-2.1-or-later",
                                    .package = "libpangocairo-1.0-0",
                                    .text_setter = &Setter::make};
    return &module;
}

#pragma once

#include "app/benches/paged_bench.h"
#include "core/mix/render/mixdown.h"

namespace gristle::app {

class PlacesPage;
class SongSum;

/// Layers and sides together: places between left and right, and what each sum of the song gains or loses.
class BlendBench : public PagedBench {
    Q_OBJECT
public:
    BlendBench(const BenchContext& context, QWidget* parent);
    BenchState state() const override;
    bool isMonoOffered() const override { return true; }

    const std::optional<core::MixReport>& report() const; ///< of the part in hand, as Places shows it

private:
    SongSum* song_;
    PlacesPage* places_;
};

} // namespace gristle::app

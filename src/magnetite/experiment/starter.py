"""A plan to begin with; it runs as it is on the made-up scenes."""

STARTER = """\
# An experiment: which denoiser pays before coding? Run it with: magnetite run PLAN.toml
# Chains are written as everywhere in Magnetite; lists and ranges make a row for each value.
title = "denoising before coding"
seed = 1        # the first seed; repeats take the ones after it
repeats = 2     # pictures with new noise, for every degradation that draws noise

[references]
files = ["trays/*.png"]     # relative to this file
convert = "middle width=256 height=192"     # conversion of each, before all other steps

[degradations]              # NAME = "chain"; "nothing" leaves the picture as it is
noisy = "gaussian-noise sd=3%,6%"

[treatments]                # restorations, codecs, or both in a row
nothing = "nothing"
median = "median size=3"
"known sd" = "nl-means sd=known"   # the sd that the degradation's certificate says
"estimated sd" = "nl-means"        # the sd that the noisy picture shows
coded = "dct step=2%,4%,8%,16%"
"denoised, coded" = "nl-means sd=known + dct step=2%,4%,8%,16%"

[pairs]                     # all go together that are not excluded
# exclude = [["noisy", "coded"]]

[scores]
metrics = "psnr,ssim"
gauges = "noise-wavelet"

[keep]                      # none, all, worst N, best N, sample N
pictures = "worst 3"
by = "ssim"
"""

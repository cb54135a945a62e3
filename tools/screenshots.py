"""Takes a picture of each main view with the demo data, into docs/screenshots."""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import msgspec
from PySide6.QtCore import QEventLoop, QSettings, Qt, QThreadPool, QTimer
from PySide6.QtWidgets import QApplication

from oaktrim.core.configure import configure
from oaktrim.core.progress import finish
from oaktrim.demo.heronmere import make_demo
from oaktrim.desk.__main__ import configure_window
from oaktrim.desk.benches.channels.bench import Page as ChannelsPage
from oaktrim.desk.benches.proof.bench import Page
from oaktrim.desk.benches.survey.bench import Pane
from oaktrim.desk.look.dress import dress_application
from oaktrim.desk.shell.window import Window

OUT = Path(__file__).parent.parent / "docs" / "screenshots"


def settle(app: QApplication, seconds: float = 1.0) -> None:
    """Let the window do what it has begun."""
    # A loop of its own, as a person's window has one: without, what Qt puts off is not always done.
    loop = QEventLoop()
    QTimer.singleShot(int(seconds * 1000), loop.quit)
    loop.exec()
    while QThreadPool.globalInstance().activeThreadCount():
        QTimer.singleShot(20, loop.quit)
        loop.exec()
    app.processEvents()


def wait_for(app: QApplication, done: Callable[[], bool], seconds: float = 60.0) -> None:
    """Let the window work until something is done."""
    until = time.monotonic() + seconds
    settle(app, 0.5)
    while not done() and time.monotonic() < until:
        settle(app, 0.2)


def choose(window: Window, *names: str) -> None:
    """Select textures by the ends of their paths."""
    inventory = window.session.inventory
    assert inventory is not None
    window.session.select([r for n in names for r, t in enumerate(inventory.textures) if t.path.endswith(n)])


def take(window: Window, app: QApplication, name: str, folder: Path) -> None:
    """Write one picture."""
    settle(app)
    window.grab().save(str(folder / f"{name}.png"))


def fit_the_posts(window: Window, app: QApplication, root: Path) -> None:
    """Fit one corner of the demonstration to a tight budget: the whole would take minutes."""
    window.rules.set_all(False)
    window.session.open(root)
    settle(app, 2)
    window.session.watch("pocket")
    limits = msgspec.structs.replace(window.session.watched.limits, memory="3 MiB", package="4 MiB", streaming=None)
    tight = msgspec.structs.replace(window.session.watched, limits=limits)
    window.session.edit(window.session.job.with_target(tight), "a tight budget")
    window.reveal(window.proof)
    window.proof.show_page(Page.FIT)
    window.proof.fit.propose()
    wait_for(app, lambda: window.proof.fit.model.rowCount() > 0)
    wait_for(app, lambda: len(window.proof.fit.model.pictured) == window.proof.fit.model.rowCount())


def picture_channels(window: Window, app: QApplication, folder: Path) -> None:
    """Picture packs, patches and glyph sheets, each once its proof stands."""
    channels = window.channels
    window.session.watch("pocket")
    window.reveal(window.channels)
    packs = channels.packs
    settle(app, 1)
    packs.choose([next(place for place, row in enumerate(packs.model.rows) if row.made)])
    packs.pane.views["Sphere"].click()
    wait_for(app, lambda: packs.pane.table.rowCount() > 3 and packs.pane.thumb.picture is not None)
    take(window, app, "channels-packs", folder)
    channels.show_page(ChannelsPage.PATCHES)
    patches = channels.patches
    wait_for(app, lambda: bool(patches._rows))
    patches.table.selectRow(next(n for n, row in enumerate(patches._rows) if "kiosk_sign" in row.path))
    wait_for(app, lambda: patches.worn[1].picture is not None)
    take(window, app, "channels-patches", folder)
    channels.show_page(ChannelsPage.GLYPHS)
    wait_for(app, lambda: channels.glyphs.sheet is not None and "smears" in channels.glyphs._harmed.text())
    take(window, app, "channels-glyphs", folder)
    window.session.watch("lounge")


def picture_others(window: Window, app: QApplication, folder: Path) -> None:
    """Picture what is no texture: parts of models over a clip's cuts, and a sound's proof."""
    session = window.session
    places = {session.asset_path(asset): asset for asset in range(session.asset_count)}
    session.watch("visor")
    window.survey.show_pane(Pane.OUTFITS)
    session.select((places["warden/warden.glb#animations/1"],))
    wait_for(app, lambda: window.survey.outfits.table.rowCount() > 8)
    take(window, app, "outfits", folder)
    session.watch("pocket")
    window.reveal(window.proof)
    session.select((places["sounds/wave_loop.wav"],))
    wait_for(app, lambda: window.proof.sound.view.proof is not None)
    take(window, app, "proof-sound", folder)
    window.reveal(window.survey)


def main() -> None:
    """Take them all; an argument names another folder."""
    folder = Path(sys.argv[1]) if len(sys.argv) > 1 else OUT
    folder.mkdir(parents=True, exist_ok=True)
    job = finish(make_demo())
    with tempfile.TemporaryDirectory() as scratch:
        QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, scratch)
        app = QApplication(sys.argv[:1])
        dress_application(app)
        configure()
        configure_window()
        window = Window()
        window.resize(1280, 800)
        window.show()
        window.set_theme("light")
        window.session.open(job)
        settle(app, 6)
        choose(window, "reed_base.png")
        take(window, app, "survey", folder)
        window.survey.show_finding("more-size-than-detail")
        settle(app)
        choose(window, "boat/boat_base.png")
        take(window, app, "findings", folder)
        window.survey.findings.choose("")
        window.survey.show_rules(formats=True)
        window.survey.filters.set_filter("Shared")
        window.survey.rules.propose_common()
        wait_for(app, window.survey.rules.use.isEnabled)
        take(window, app, "rules", folder)
        window.survey.filters.set_filter("All")
        picture_others(window, app, folder)
        window.survey.show_pane(Pane.PLANKS)
        window.cuts.opener.setChecked(True)
        choose(window, "clapboard_base.png", "clapboard_n.png", "roof_base.png")
        take(window, app, "cut-list", folder)
        window.cuts.opener.setChecked(False)
        window.session.watch("lounge")
        choose(window, "reeds/reed_card_base.png")
        window.reveal(window.proof)
        wait_for(app, lambda: window.proof.one.candidates.left == 0)
        take(window, app, "proof", folder)
        window.session.watch("pocket")
        window.reveal(window.sightlines)
        lines = window.sightlines
        wait_for(app, lambda: lines.streaming.after.residency is not None)
        wait_for(app, lambda: (demand := window.session.demand()) is not None and not demand.estimated.any())
        choose(window, "lantern/lantern_base.png")
        take(window, app, "sightlines", folder)
        window.reveal(window.proof)
        choose(window, "boat/boat_base.png")
        window.proof.show_page(Page.MODEL)
        wait_for(app, lambda: "In this view" in window.proof.model.words.text())
        take(window, app, "proof-model", folder)
        window.session.watch("lounge")
        choose(
            window,
            *(
                f"posts/{name}"
                for name in (
                    "post_base_surface",
                    "post_base_surface_post_n",
                    "post_base_surface_post_orm",
                    "rope_n.png",
                )
            ),
        )
        window.proof.show_page(Page.WALL)
        wait_for(app, lambda: window.proof.wall.left == 0)
        take(window, app, "proof-wall", folder)
        window.proof.show_page(Page.ONE)
        picture_channels(window, app, folder)
        window.session.watch("pocket")
        window.reveal(window.atlas)
        wait_for(app, lambda: window.atlas.likeness is not None)
        take(window, app, "atlas", folder)
        window.reveal(window.imposters)
        imposters = window.imposters
        imposters.show_thing(("landing.gltf", ("ferry kiosk",)))
        wait_for(app, lambda: imposters._draft is not None and imposters._draft.likeness is not None)
        imposters.look_from(520)
        take(window, app, "imposters", folder)
        window.reveal(window.surface)
        window.surface.tiles.setValue(3)
        wait_for(app, lambda: window.surface.view.drawn is not None and window.surface.view.drawn.whole)
        window.surface.cut.click()
        settle(app, 4)
        take(window, app, "surface", folder)
        window.session.watch("lounge")
        window.reveal(window.ship)
        window.ship.folder.setText(str(Path(scratch) / "heronmere-lounge"))
        window.ship.refresh()
        settle(app)
        window.ship.run()
        settle(app, 2)
        window.ship.folder.setText("~/builds/heronmere-lounge")
        take(window, app, "ship", folder)
        window.set_theme("dusk")
        window.reveal(window.survey)
        window.rules.set_all(True)
        window.survey.filters.group.setCurrentIndex(2)
        choose(window, "badge_base.png")
        take(window, app, "survey-dusk", folder)
        window.show_finder()
        settle(app)
        finder = app.activePopupWidget()
        if finder is not None:
            finder.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose, False)
            finder.close()
        window.set_theme("light")
        fit_the_posts(window, app, job.parent / "art" / "posts")
        take(window, app, "proof-fit", folder)
        # Saved, so that closing asks nothing.
        window.session.save(Path(scratch) / "pictured.oak")
        window.close()


if __name__ == "__main__":
    main()

"""Words in several languages by which sheets tell a status."""

from __future__ import annotations

import re
from collections.abc import Mapping

from upright_ledger.core.url.unspaced import holds_unspaced

_WORDS: Mapping[str, str] = {
    "301": (
        "permanent permanently permanente permanentemente permanenti dauerhaft dauerhafte "
        "définitive définitif définitivement definitiva definitivo blijvend stały stała stałe "
        "trwałe trwały pysyvä trvalé trvalý постоянный постоянное постоянно постійний kalıcı "
        "állandó végleges μόνιμη קבוע دائم دائمة دائمی 永久 恒久 영구 영구적 ถาวร permanen"
    ),
    "302": (
        "temporary temporarily temp temporär temporäre vorübergehend temporaire provisoire "
        "temporal temporalmente temporaneo temporanea tijdelijk temporário temporária tymczasowy "
        "tymczasowe tillfällig midlertidig väliaikainen dočasné dočasný временный временное "
        "временно тимчасовий geçici ideiglenes προσωρινή זמני مؤقت مؤقتة موقت 临时 臨時 暫時 一時 "
        "임시 일시적 ชั่วคราว sementara"
    ),
    "gone": (
        "gone removed deleted gelöscht entfernt entfällt weg supprimé supprimée supprimer "
        "eliminado eliminada borrado eliminato rimosso verwijderd vervallen removido removida "
        "excluído excluída usunięta usunięte usunąć borttagen raderad slettet fjernet poistettu "
        "smazáno odstraněno удалено удалена удалён удалить видалено silindi kaldırıldı törölve "
        "διαγράφηκε נמחק محذوف محذوفة 删除 刪除 削除 廃止 삭제 삭제됨 ลบ dihapus"
    ),
}
_BY_WORD = {word: status for status, words in _WORDS.items() for word in words.split()}
_WITHIN = {word: status for word, status in _BY_WORD.items() if holds_unspaced(word)}


def status_word(text: str) -> str:
    """The status that words mean ("permanent", "vorübergehend", "supprimé", "削除済み"): 301, 302 or
    gone; empty where they mean none.
    """
    low = text.lower()
    found = {_BY_WORD[w] for w in re.findall(r"[^\W\d_]+", low) if w in _BY_WORD}
    if holds_unspaced(low):
        found |= {status for word, status in _WITHIN.items() if word in low}
    return found.pop() if len(found) == 1 else ""

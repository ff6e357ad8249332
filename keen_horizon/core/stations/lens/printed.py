"""A chessboard to print, as SVG and as PDF; both by hand, because it is only rectangles."""

from __future__ import annotations

from .chart import Board

PAPERS = {"A4": (297.0, 210.0), "A3": (420.0, 297.0)}  # mm, landscape
MARGIN = 12.0  # mm
POINT = 72 / 25.4  # a mm


def square_of(board: Board, paper: str) -> float:
    """Side of a square in whole mm, as large as the paper allows."""
    width, height = PAPERS[paper]
    room = min(
        (width - 2 * MARGIN) / (board.columns + 1), (height - 2 * MARGIN - 6) / (board.rows + 1)
    )
    return float(int(room))


def _squares(board: Board, paper: str) -> list[tuple[float, float, float]]:
    """Left, top and side of each black square, mm."""
    width, height = PAPERS[paper]
    side = square_of(board, paper)
    left = (width - side * (board.columns + 1)) / 2
    top = (height - 6 - side * (board.rows + 1)) / 2
    return [
        (left + i * side, top + j * side, side)
        for j in range(board.rows + 1)
        for i in range(board.columns + 1)
        if (i + j) % 2 == 0
    ]


def _caption(board: Board, paper: str) -> str:
    return (
        f"{board.columns} x {board.rows} inner corners, squares of {square_of(board, paper):g} mm. "
        "Print at full size; keep it flat."
    )


def chart_svg(board: Board, paper: str = "A4") -> str:
    """The chart as an SVG document."""
    width, height = PAPERS[paper]
    boxes = "".join(
        f'<rect x="{x:g}" y="{y:g}" width="{s:g}" height="{s:g}"/>'
        for x, y, s in _squares(board, paper)
    )
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{width:g}mm" height="{height:g}mm" '
        f'viewBox="0 0 {width:g} {height:g}"><rect width="100%" height="100%" fill="#fff"/>'
        f'{boxes}<text x="{MARGIN:g}" y="{height - 5:g}" font-family="sans-serif" '
        f'font-size="3.5">{_caption(board, paper)}</text></svg>\n'
    )


def chart_pdf(board: Board, paper: str = "A4") -> bytes:
    """The chart as a PDF of one page (ISO 32000)."""
    width, height = PAPERS[paper]
    draw = ["0 g"]
    for x, y, s in _squares(board, paper):
        draw.append(
            f"{x * POINT:.3f} {(height - y - s) * POINT:.3f} {s * POINT:.3f} {s * POINT:.3f} re f"
        )
    place = f"{MARGIN * POINT:.2f} {4 * POINT:.2f} Td"
    draw.append(f"BT /F 10 Tf {place} ({_caption(board, paper)}) Tj ET")
    stream = "\n".join(draw).encode()
    objects = [
        b"<< /Type /Catalog /Pages 2 0 R >>",
        b"<< /Type /Pages /Kids [3 0 R] /Count 1 >>",
        f"<< /Type /Page /Parent 2 0 R /MediaBox [0 0 {width * POINT:.3f} {height * POINT:.3f}] "
        "/Resources << /Font << /F 5 0 R >> >> /Contents 4 0 R >>".encode(),
        b"<< /Length %d >>\nstream\n%s\nendstream" % (len(stream), stream),
        b"<< /Type /Font /Subtype /Type1 /BaseFont /Helvetica >>",
    ]
    out = bytearray(b"%PDF-1.4\n")
    starts = []
    for number, body in enumerate(objects, 1):
        starts.append(len(out))
        out += b"%d 0 obj\n%s\nendobj\n" % (number, body)
    table = len(out)
    out += b"xref\n0 %d\n0000000000 65535 f \n" % (len(objects) + 1)
    out += b"".join(b"%010d 00000 n \n" % start for start in starts)
    out += b"trailer\n<< /Size %d /Root 1 0 R >>\nstartxref\n%d\n%%%%EOF\n" % (
        len(objects) + 1, table,
    )  # fmt: skip
    return bytes(out)

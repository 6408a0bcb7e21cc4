"""`yatagan completion`: the scripts that let a shell complete commands, options and names."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from yatagan.cli.terminal import terminal

if TYPE_CHECKING:
    pass

# A shell hands over the line up to the cursor and gets lines back: `file` for names of its own, or `word VALUE`.
# bash also splits words at colons, so it must get only what follows the last one.
_BASH = """\
_yatagan_completion() {
    local word line reply=() files=()
    word=${COMP_LINE:0:COMP_POINT}; word=${word##*[[:space:]]}
    mapfile -t reply < <(_YATAGAN_TYPED="${COMP_LINE:0:COMP_POINT}" _YATAGAN_COMPLETE=bash_complete "$1" 2>/dev/null)
    COMPREPLY=()
    compopt -o nospace 2>/dev/null
    for line in "${reply[@]}"; do
        case $line in
            file)
                mapfile -t files < <(compgen -f -- "$word")
                [ ${#files[@]} -gt 0 ] && compopt -o filenames 2>/dev/null
                COMPREPLY+=("${files[@]}");;
            "word "*) line=${line#word }
                case $COMP_WORDBREAKS in *:*) case $word in *:*) line=${line#"${word%:*}:"};; esac;; esac
                COMPREPLY+=("$line");;
        esac
    done
}
complete -F _yatagan_completion yatagan
"""


_ZSH = """\
#compdef yatagan
_yatagan_completion() {
    local line
    for line in "${(@f)$(_YATAGAN_TYPED="${(j: :)words[1,CURRENT]}" _YATAGAN_COMPLETE=zsh_complete ${words[1]})}"; do
        case $line in
            file) _files;;
            "word "*) compadd -Q -S '' -- "${line#word }";;
        esac
    done
}
compdef _yatagan_completion yatagan
"""


_FISH = """\
function _yatagan_completion
    for line in (_YATAGAN_TYPED=(commandline -cp) _YATAGAN_COMPLETE=fish_complete yatagan)
        switch $line
            case file
                __fish_complete_path (commandline -ct)
            case "word *"
                string trim --right -- (string replace "word " "" -- $line)
        end
    end
end
complete --no-files --command yatagan --arguments "(_yatagan_completion)"
"""


_SCRIPTS = {"bash": _BASH, "zsh": _ZSH, "fish": _FISH}


@click.command(
    "completion",
    epilog="""\b
Put it where your shell starts, such as:
  echo 'eval "$(yatagan completion bash)"' >> ~/.bashrc
  echo 'eval "$(yatagan completion zsh)"' >> ~/.zshrc      (after compinit)
  yatagan completion fish > ~/.config/fish/completions/yatagan.fish""",
)
@click.argument("shell", type=click.Choice(list(_SCRIPTS)))
def completion_command(shell: str) -> None:
    """Write the script that lets SHELL complete commands, options and names.

    Paths on a node are completed while it is open: see yatagan node open.
    """
    terminal.say_data(_SCRIPTS[shell].encode())

package netaccounts

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"testing"

	"sternledger/internal/core/estate"
	"sternledger/internal/core/setting"
	"sternledger/internal/intake"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/japanese"
	"golang.org/x/text/encoding/korean"
	"golang.org/x/text/encoding/unicode"
)

// words are the eight lines and the role in several languages, with what stands for
// never, unlimited and none.
var words = map[string][]string{
	"English": {"Force user logoff how long after time expires?:", "Minimum password age (days):", "Maximum password age (days):",
		"Minimum password length:",
		"Length of password history maintained:", "Lockout threshold:", "Lockout duration (minutes):", "Lockout observation window (minutes):",
		"Computer role:",
		"Never", "Unlimited", "None", "The command completed successfully."},
	"German": {"Benutzer nach Ablauf der Zeit abmelden?:", "Minimales Kennwortalter (Tage):", "Maximales Kennwortalter (Tage):",
		"Minimale Kennwortlänge:",
		"Länge der Kennwortchronik:", "Sperrschwelle:", "Sperrdauer (Minuten):", "Sperrüberwachungsfenster (Minuten):",
		"Computerrolle:", "Nie", "Unbegrenzt", "Keine",
		"Der Befehl wurde erfolgreich ausgeführt."},
	"French": {"Fermeture forcée de la session après expiration ?  :", "Durée de vie minimale du mot de passe (jours) :",
		"Durée de vie maximale du mot de passe (jours) :",
		"Longueur minimale du mot de passe :", "Nombre d'anciens mots de passe conservés :", "Seuil de verrouillage :",
		"Durée du verrouillage (min) :",
		"Fenêtre d'observation du verrouillage (min) :", "Rôle de l'ordinateur :", "Jamais", "Illimitée", "Aucun",
		"La commande s'est terminée correctement."},
	"Spanish": {"¿Desconectar a los usuarios cuando acabe el tiempo?:", "Duración mín. de contraseña (días):",
		"Duración máx. de contraseña (días):",
		"Longitud mínima de contraseña:", "Duración del historial de contraseñas:", "Umbral de bloqueo:", "Duración del bloqueo (minutos):",
		"Ventana de obs. del bloqueo (minutos):", "Función del servidor:", "Nunca", "Ilimitada", "Ninguna", "Se ha completado el comando."},
}

// printed writes what the command would print; -1 is the word of that line.
func printed(language string, values [8]int, role string) string {
	w := words[language]
	var b strings.Builder
	for i, n := range values {
		text := fmt.Sprint(n)
		if n < 0 {
			text = map[int]string{2: w[10], 3: w[11], 4: w[11]}[i]
			if text == "" {
				text = w[9]
			}
		}
		fmt.Fprintf(&b, "%-54s%s\r\n", w[i], text)
	}
	fmt.Fprintf(&b, "%-54s%s\r\n%s\r\n\r\n", w[8], role, w[12])
	return b.String()
}

func taken(t *testing.T, text string) *estate.Authority {
	t.Helper()
	if !detect("desk.txt", []byte(text)) {
		t.Fatalf("not recognised:\n%s", text)
	}
	b := estate.NewBuilder()
	b.StartFile("desk.txt")
	src := &intake.Source{Path: `C:\handed over\DESK7-net-accounts.txt`, In: strings.NewReader(text), Keep: io.Discard, Differs: func() {}}
	if err := Format.Read(src, b); err != nil {
		t.Fatal(err)
	}
	return b.Finish()[0]
}

// The same in every language: what counts is where a line stands.
func TestLanguages(t *testing.T) {
	for language := range words {
		for _, c := range []struct {
			values [8]int
			want   string
		}{
			{[8]int{-1, 0, 42, 0, -1, -1, 30, 30}, "off;0 days;42 days;0 characters;0 passwords;never locks;30 minutes;30 minutes"},
			{[8]int{15, 1, -1, 14, 24, 5, -1, 99},
				"on;1 day;never expires;14 characters;24 passwords;5 failed attempts;locks until an administrator unlocks;99 minutes"},
			{[8]int{-1, 998, 999, -1, 1, 10, 10, 1}, "off;998 days;999 days;0 characters;1 password;10 failed attempts;10 minutes;1 minute"},
		} {
			a := taken(t, "\r\n"+printed(language, c.values, "WORKSTATION"))
			var got []string
			for _, l := range lines {
				f := a.Head.Settings[l.id]
				got = append(got, setting.Get(l.id).Text(f.Value))
				if f.Cite.Line < 2 || f.Cite.Raw == "" {
					t.Errorf("%s: %s has no line", language, l.id)
				}
			}
			if strings.Join(got, ";") != c.want || a.Name != "desk7" || a.Kind != estate.Machine || a.Listed || len(a.Head.Settings) != len(lines) {
				t.Errorf("%s: %s of %s, want %s", language, strings.Join(got, ";"), a.Name, c.want)
			}
		}
	}
}

// What is a domain's does not name the domain, and other texts are none of this.
func TestWhatItIsNot(t *testing.T) {
	domain := printed("English", [8]int{-1, 1, 42, 7, 24, -1, 30, 30}, "PRIMARY")
	if detect("x", []byte(domain)) || !OfDomain([]byte(domain)) {
		t.Error("a domain's is taken for a machine's")
	}
	whole := printed("English", [8]int{-1, 1, 42, 7, 24, -1, 30, 30}, "SERVER")
	for name, text := range map[string]string{"a cut one": whole[:strings.Index(whole, "Lockout duration")],
		"a word for the minimum age": strings.Replace(whole, " 1\r", " x\r", 1),
		"a letter":                   strings.Repeat("Dear Sir:   yes\n", 9), "nothing": ""} {
		if detect("x", []byte(text)) {
			t.Errorf("%s is taken", name)
		}
		src := &intake.Source{Path: "x", In: strings.NewReader(text), Keep: io.Discard, Differs: func() {}}
		if err := Format.Read(src, estate.NewBuilder()); err == nil {
			t.Errorf("%s is read", name)
		}
	}
}

// What a domain prints is the domain's, where it says which, in any language; whose rules they
// are that a role of another language stands under is not guessed.
func TestDomains(t *testing.T) {
	values := [8]int{-1, 1, 42, 7, 24, 5, 30, 30}
	for text, want := range map[string]string{
		"The request will be processed at a domain controller for domain quay.example.\r\n\r\n" + printed("English", values, "PRIMARY"):      "quay.example domain",
		"Die Anforderung wird an einem Domänencontroller der Domäne quay.example verarbeitet.\r\n\r\n" + printed("German", values, "PRIMÄR"): "quay.example domain",
		"Bearbeitet in der Domäne Quay.Example\r\n\r\n" + printed("German", values, "PRIMÄR"):                                                "quay.example domain",
		printed("German", values, "PRIMÄR"):         "",
		printed("German", values, "ARBEITSSTATION"): "desk7 machine",
		printed("English", values, "Unheard"):       "",
	} {
		b := estate.NewBuilder()
		b.StartFile("x")
		src := &intake.Source{Path: "Desk7.txt", In: strings.NewReader(text), Keep: io.Discard, Differs: func() {}}
		err, got := Format.Read(src, b), ""
		if err == nil {
			for _, a := range b.Finish() {
				got = a.Name + " " + string(a.Kind)
			}
		}
		if got != want {
			t.Errorf("%.60q: %q (%v), want %q", text, got, err, want)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(printed("English", [8]int{-1, 0, 42, 0, -1, -1, 30, 30}, "SERVER")))
	f.Add([]byte(printed("German", [8]int{15, 1, -1, 14, 24, 5, -1, 99}, "x")))
	f.Fuzz(func(t *testing.T, data []byte) {
		b := estate.NewBuilder()
		b.StartFile("x")
		src := &intake.Source{Path: "x", In: bytes.NewReader(data), Keep: io.Discard, Differs: func() {}}
		if Format.Read(src, b) == nil {
			for _, a := range b.Finish() {
				for id, f := range a.Head.Settings {
					if !f.Value.IsSet() && f.Problem == "" {
						t.Errorf("%s is taken and not set", id)
					}
				}
			}
		}
	})
}

// further are what the command prints in languages of other scripts, with the code page of
// their console.
var further = map[string]struct {
	text string
	page encoding.Encoding
}{
	"Japanese": {`時間経過後の強制ログオフまでの時間:                  なし
パスワード変更までの最小日数:                        0
パスワード変更までの最大日数:                        42
パスワードの長さの最小値:                            7
パスワードの履歴の維持数:                            なし
ロックアウトしきい値:                                しない
ロックアウト期間 (分):                               30
ロックアウト監視ウィンドウ (分):                     30
コンピューターの役割:                                WORKSTATION
`, japanese.ShiftJIS},
	"Korean": {`시간이 만료된 후 강제 로그오프 시기:                 안 함
최소 암호 사용 기간 (일):                            0
최대 암호 사용 기간 (일):                            42
최소 암호 길이:                                      7
암호 기록 개수:                                      없음
잠금 임계값:                                         안 함
잠금 기간 (분):                                      30
잠금 관찰 창 (분):                                   30
컴퓨터 역할:                                         WORKSTATION
`, korean.EUCKR},
	"Polish": {`Wymuszone wylogowanie po upływie określonego czasu:  Nigdy
Minimalny okres ważności hasła (dni):                0
Maksymalny okres ważności hasła (dni):               42
Minimalna długość hasła:                             7
Długość obsługiwanej historii haseł:                 Brak
Próg blokady:                                        Nigdy
Czas trwania blokady (min):                          30
Okno obserwowania blokady (min):                     30
Rola komputera:                                      STACJA ROBOCZA
`, charmap.CodePage852},
	"Turkish": {`Zaman aşımından ne kadar sonra zorunlu oturum kapatılsın?:     Hiçbir zaman
En az parola süresi (gün):                             0
En fazla parola süresi (gün):                          42
En az parola uzunluğu:                                 7
Tutulan parola geçmişi uzunluğu:                       Hiçbiri
Kilitleme eşiği:                                       Hiçbir zaman
Kilitleme süresi (dakika):                             30
Kilitleme izleme penceresi (dakika):                   30
Bilgisayar rolü:                                       İŞ İSTASYONU
`, charmap.Windows1254},
	"Russian": {`Принудительный выход по истечении времени через:        Никогда
Минимальный срок действия пароля (дней):                0
Максимальный срок действия пароля (дней):               42
Минимальная длина пароля:                               7
Хранение неповторяющихся паролей:                       Нет
Блокировка после ошибок ввода пароля:                   Никогда
Длительность блокировки (минут):                        30
Сброс счетчика блокировок через (минут):                30
Роль компьютера:                                        РАБОЧАЯ СТАНЦИЯ
`, charmap.CodePage866},
}

// Whatever it is written in, with or without a mark, by whatever ends its lines, it says the
// same.
func TestEveryScript(t *testing.T) {
	for language, c := range further {
		text := strings.ReplaceAll(c.text, "\n", "\r\n")
		wide := func(order unicode.Endianness, mark unicode.BOMPolicy) string {
			out, err := unicode.UTF16(order, mark).NewEncoder().String(text)
			if err != nil {
				t.Fatal(err)
			}
			return out
		}
		page, err := c.page.NewEncoder().String(text)
		if err != nil {
			t.Fatal(err)
		}
		for in, raw := range map[string]string{"UTF-8": text, "UTF-16": wide(unicode.LittleEndian, unicode.UseBOM),
			"UTF-16 without a mark": wide(unicode.LittleEndian, unicode.IgnoreBOM), "UTF-16BE without a mark": wide(unicode.BigEndian, unicode.IgnoreBOM),
			"its console's page": page, "CR alone": strings.ReplaceAll(c.text, "\n", "\r")} {
			if !Format.Detect("weigh9.txt", []byte(raw)) {
				t.Errorf("%s in %s is not known", language, in)
				continue
			}
			b := estate.NewBuilder()
			b.StartFile("weigh9.txt")
			var kept bytes.Buffer
			if err := Format.Read(&intake.Source{Path: "weigh9.txt", In: strings.NewReader(raw), Keep: &kept, Differs: func() {}}, b); err != nil {
				t.Errorf("%s in %s: %v", language, in, err)
				continue
			}
			a := b.Finish()[0]
			for id, want := range map[setting.ID]setting.Value{setting.MinLength: setting.Number(7), setting.MaxAge: setting.Number(42 * day),
				setting.History: setting.Number(0), setting.LockoutThreshold: setting.Of(setting.Never), setting.LockoutWindow: setting.Number(30 * minute)} {
				if got := a.Head.Settings[id].Value; got != want {
					t.Errorf("%s in %s: %s is %v", language, in, id, got)
				}
			}
		}
	}
}

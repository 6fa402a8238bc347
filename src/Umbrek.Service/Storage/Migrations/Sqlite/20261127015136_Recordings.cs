using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Umbrek.Service.Storage.Migrations.Sqlite
{
    /// <inheritdoc />
    public partial class Recordings : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.CreateTable(
                name: "Recordings",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    SessionId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    ShellId = table.Column<byte[]>(type: "BLOB", nullable: true),
                    HostId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    TechnicianId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Technician = table.Column<string>(type: "TEXT", nullable: false),
                    CommandText = table.Column<string>(type: "TEXT", nullable: false),
                    User = table.Column<string>(type: "TEXT", nullable: true),
                    IsTerminal = table.Column<bool>(type: "INTEGER", nullable: false),
                    HasKeys = table.Column<bool>(type: "INTEGER", nullable: false),
                    Continues = table.Column<bool>(type: "INTEGER", nullable: false),
                    BeganAt = table.Column<long>(type: "INTEGER", nullable: false),
                    EndedAt = table.Column<long>(type: "INTEGER", nullable: true),
                    Bytes = table.Column<long>(type: "INTEGER", nullable: true),
                    Sha256 = table.Column<string>(type: "TEXT", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Recordings", x => x.Id);
                    table.ForeignKey(
                        name: "FK_Recordings_Hosts_HostId",
                        column: x => x.HostId,
                        principalTable: "Hosts",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateIndex(
                name: "IX_Recordings_BeganAt_Id",
                table: "Recordings",
                columns: new[] { "BeganAt", "Id" });

            migrationBuilder.CreateIndex(
                name: "IX_Recordings_EndedAt",
                table: "Recordings",
                column: "EndedAt");

            migrationBuilder.CreateIndex(
                name: "IX_Recordings_HostId_BeganAt",
                table: "Recordings",
                columns: new[] { "HostId", "BeganAt" });

            migrationBuilder.CreateIndex(
                name: "IX_Recordings_ShellId",
                table: "Recordings",
                column: "ShellId");
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "Recordings");
        }
    }
}

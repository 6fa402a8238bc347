using System;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Umbrek.Service.Storage.Migrations.Postgres
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
                    Id = table.Column<Guid>(type: "uuid", nullable: false),
                    SessionId = table.Column<Guid>(type: "uuid", nullable: false),
                    ShellId = table.Column<Guid>(type: "uuid", nullable: true),
                    HostId = table.Column<Guid>(type: "uuid", nullable: false),
                    TechnicianId = table.Column<Guid>(type: "uuid", nullable: false),
                    Technician = table.Column<string>(type: "text", nullable: false),
                    CommandText = table.Column<string>(type: "text", nullable: false),
                    User = table.Column<string>(type: "text", nullable: true),
                    IsTerminal = table.Column<bool>(type: "boolean", nullable: false),
                    HasKeys = table.Column<bool>(type: "boolean", nullable: false),
                    Continues = table.Column<bool>(type: "boolean", nullable: false),
                    BeganAt = table.Column<DateTimeOffset>(type: "timestamp with time zone", nullable: false),
                    EndedAt = table.Column<DateTimeOffset>(type: "timestamp with time zone", nullable: true),
                    Bytes = table.Column<long>(type: "bigint", nullable: true),
                    Sha256 = table.Column<string>(type: "text", nullable: true)
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
